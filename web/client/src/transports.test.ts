import { describe, expect, test } from "vitest";
import { Beats, type Events, type Network, Stream } from "./transports";

/** A service that answers calls as the test says, and what was called. */
class Service implements Network {
  calls: { method: string; path: string; bearer: string | undefined; body: Record<string, unknown> }[] = [];
  answers: Record<string, { status?: number; body: object }> = {};
  stream: (Events & { says(frame: object): void; closed(data: object): void }) | undefined;
  timers: (() => void)[] = [];

  async fetch(url: string, init: RequestInit): Promise<Response> {
    const headers = init.headers as Record<string, string>;
    const path = url.replace("http://service.test", "");
    const body = JSON.parse(String(init.body ?? "{}"));
    this.calls.push({ method: init.method ?? "GET", path, bearer: headers.Authorization?.slice(7), body });
    const answer = this.answers[`${init.method} ${path}`];
    if (!answer) throw new TypeError("nobody answers");
    return new Response(JSON.stringify(answer.body), { status: answer.status ?? 200 });
  }

  events(): Events {
    let closed: ((event: { data: string }) => void) | undefined;
    const stream = {
      onmessage: null as Events["onmessage"],
      onerror: null as Events["onerror"],
      readyState: 1,
      addEventListener: (_: "closed", listener: (event: { data: string }) => void) => {
        closed = listener;
      },
      close: () => {},
      says: (frame: object) => stream.onmessage?.({ data: JSON.stringify(frame) }),
      closed: (data: object) => closed?.({ data: JSON.stringify(data) }),
    };
    this.stream = stream;
    return stream;
  }

  after(_: number, run: () => void): () => void {
    this.timers.push(run);
    return () => {
      this.timers = this.timers.filter((t) => t !== run);
    };
  }
}

const settled = () => new Promise((done) => setTimeout(done));
const hello = JSON.stringify({ type: "hello", id: 1, token: "t", nonce: "n", rooms: ["desk.night"] });

function listen(socket: Stream | Beats): { frames: Record<string, unknown>[]; closed: unknown[] } {
  const heard = { frames: [] as Record<string, unknown>[], closed: [] as unknown[] };
  socket.onmessage = ({ data }) => heard.frames.push(JSON.parse(String(data)));
  socket.onclose = (event) => heard.closed.push(event);
  return heard;
}

describe("an event stream", () => {
  test("is opened with a ticket, posts its requests, and is lost when it breaks or falls silent", async () => {
    const service = new Service();
    service.answers["POST /v1/tickets"] = { status: 201, body: { feed: "/v1/feed?ticket=T" } };
    const socket = new Stream("http://service.test", service);
    const heard = listen(socket);
    socket.send(hello);
    await settled();
    expect(service.calls[0]?.body).toMatchObject({ token: "t", rooms: ["desk.night"] });
    service.stream?.says({ type: "answer", timings: {}, posts: "/v1/sessions/s/links/1", resume_key: "k" });
    service.answers["POST /v1/sessions/s/links/1"] = { body: { type: "answer", re: 2 } };
    socket.send('{"type":"activity","id":2}');
    await settled();
    expect(service.calls[1]).toMatchObject({ path: "/v1/sessions/s/links/1", bearer: "k" });
    expect(heard.frames).toHaveLength(2);

    service.answers["POST /v1/sessions/s/links/1"] = {
      status: 403,
      body: { code: "not-granted", detail: "no" },
    };
    socket.send('{"type":"join","id":3,"room":"x"}');
    await settled();
    expect(heard.frames[2]).toMatchObject({ type: "error", re: 3, code: "not-granted" });
    service.stream?.closed({ code: 1012, reason: "the service restarts" });
    expect(heard.closed).toEqual([{ code: 1012, reason: "the service restarts" }]);
  });

  test("is lost when nobody answers", async () => {
    const socket = new Stream("http://service.test", new Service());
    const heard = listen(socket);
    socket.send(hello);
    await settled();
    expect(heard.closed).toHaveLength(1);
    expect(socket.reached).toBe(false);
  });
});

describe("HTTP beats", () => {
  const lease = (more: object) => ({
    body: {
      session: "s",
      resume_key: "k",
      resumed: true,
      user: "w-1",
      rooms: [],
      lease: 150_000,
      counts: [],
      ...more,
    },
  });

  test("open a session, say what happens, bring counts, and end it", async () => {
    const service = new Service();
    const count = { room: "desk.night", rev: "r.1", people: 1, sessions: 1 };
    service.answers["PUT /v1/sessions/new"] = lease({ resumed: false, counts: [count] });
    const socket = new Beats("http://service.test", service);
    const heard = listen(socket);
    socket.send(hello);
    await settled();
    expect(heard.frames[0]).toMatchObject({
      type: "answer",
      re: 1,
      session: "s",
      timings: { silence: 150_000 },
    });
    expect(heard.frames[1]).toMatchObject({ type: "count", room: "desk.night", people: 1 });

    service.answers["PUT /v1/sessions/s"] = lease({});
    socket.send('{"type":"typing","id":2,"room":"desk.night","on":true}');
    await settled();
    expect(service.calls[1]).toMatchObject({
      bearer: "t",
      body: { resume_key: "k", typing: ["desk.night"], revs: { "desk.night": "r.1" } },
    });
    service.timers.at(-1)?.(); // the next beat is due
    await settled();
    expect(service.calls[2]?.body).not.toHaveProperty("typing");
    expect(heard.frames.at(-1)).toEqual({ type: "beat" });
    socket.send('{"type":"cue","id":4,"room":"desk.night","name":"wave"}');
    await settled();
    expect(heard.frames.at(-1)).toMatchObject({ type: "error", re: 4, code: "not-over-beats" });
    service.answers["DELETE /v1/sessions/s"] = { body: { applied: true } };
    socket.send('{"type":"bye","id":5}');
    await settled();
    expect(service.calls.at(-1)).toMatchObject({ method: "DELETE", bearer: "k" });
    expect(heard.closed).toHaveLength(1);
  });

  test("ask, say what the person is doing, and find out how an ask ended", async () => {
    const service = new Service();
    const ask = {
      ask: "ask-1",
      room: "desk.night",
      user: "w-1",
      since: "",
      until: "2100-01-01T00:00:00.000Z",
    };
    service.answers["PUT /v1/sessions/new"] = lease({ resumed: false, asked: [ask] });
    const socket = new Beats("http://service.test", service);
    const heard = listen(socket);
    socket.send(hello);
    await settled();
    expect(heard.frames[0]).toMatchObject({ type: "answer", asked: [ask] });
    service.answers["PUT /v1/sessions/s"] = lease({ rooms: ["desk.night"] });
    socket.send('{"type":"doing","id":2,"room":"desk.night","data":{"page":3}}');
    await settled();
    expect(service.calls[1]?.body).toMatchObject({ doing: { "desk.night": { page: 3 } } });
    expect(heard.frames).toContainEqual({
      type: "ask",
      ask: "ask-1",
      room: "desk.night",
      outcome: "admitted",
    });
  });

  test("go back into their rooms when the session had ended meanwhile", async () => {
    const service = new Service();
    service.answers["PUT /v1/sessions/new"] = lease({ resumed: false });
    const socket = new Beats("http://service.test", service);
    listen(socket);
    socket.send(hello);
    await settled();
    service.answers["PUT /v1/sessions/s"] = lease({ session: "s2", resumed: false });
    service.answers["PUT /v1/sessions/s2"] = lease({ session: "s2" });
    service.timers.at(-1)?.();
    await settled();
    expect(service.calls.at(-1)).toMatchObject({ path: "/v1/sessions/s2", body: { rooms: ["desk.night"] } });
  });
});
