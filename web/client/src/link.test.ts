import { describe, expect, test } from "vitest";
import { type Kept, Link, type LinkOptions } from "./link";
import { Refused } from "./requests";
import type { Surroundings } from "./surroundings";
import type { Over, Socket } from "./transports";

const settled = () => new Promise((done) => setTimeout(done));

/** A network that a test plays the service in, with a clock it moves. */
class Stage {
  sockets: FakeSocket[] = [];
  now = 0;
  timers: { at: number; run: () => void }[] = [];
  kept: Kept | undefined;

  open(options: Partial<LinkOptions>, more: Partial<Surroundings> = {}): Link {
    return new Link({
      server: "http://service.test",
      memory: {
        load: () => this.kept,
        save: (kept) => {
          this.kept = kept;
        },
      },
      surroundings: {
        connect: (url, over) => {
          const socket = new FakeSocket(url, over);
          this.sockets.push(socket);
          return socket;
        },
        after: (ms, run) => {
          const timer = { at: this.now + ms, run };
          this.timers.push(timer);
          return () => {
            this.timers = this.timers.filter((t) => t !== timer);
          };
        },
        random: () => 0,
        ...more,
      },
      ...options,
    });
  }

  get socket(): FakeSocket {
    const last = this.sockets.at(-1);
    if (!last) throw new Error("nothing has connected");
    return last;
  }

  pass(ms: number): void {
    this.now += ms;
    const due = this.timers.filter((t) => t.at <= this.now);
    this.timers = this.timers.filter((t) => t.at > this.now);
    for (const timer of due) timer.run();
  }

  opened(): void {
    this.socket.onopen?.();
    this.answer();
  }

  answer(more: object = {}): void {
    this.socket.says({
      ...more,
      type: "answer",
      re: 1,
      session: "s-1",
      resume_key: "k",
      link: 1,
      resumed: false,
      timings: {
        beat_every: 15_000,
        silence: 37_500,
        grace_closing: 3000,
        grace_lost: 10_000,
        grace_background: 90_000,
        idle_after: 300_000,
        longest_ghost: 62_500,
        typing_expires: 6000,
      },
    });
  }
}

class FakeSocket implements Socket {
  onopen: (() => void) | null = null;
  onmessage: ((event: { data: unknown }) => void) | null = null;
  onclose: ((event: { code: number; reason: string }) => void) | null = null;
  sent: Record<string, unknown>[] = [];
  closed = false;
  reached = false;
  constructor(
    readonly url: string,
    readonly over: Over,
  ) {}
  send(text: string): void {
    this.sent.push(JSON.parse(text));
  }
  close(): void {
    this.closed = true;
  }
  says(frame: object): void {
    this.onmessage?.({ data: JSON.stringify(frame) });
  }
}

describe("a link", () => {
  test("says hello with what it wants, and keeps its session for the next load", () => {
    const stage = new Stage();
    stage.kept = { session: "s-0", resume_key: "old" };
    const link = stage.open({ token: "t", rooms: ["desk.night"], nonce: "n" });
    expect(stage.socket.url).toBe("ws://service.test/v1/link");
    stage.opened();
    expect(stage.socket.sent[0]).toMatchObject({
      type: "hello",
      version: 1,
      token: "t",
      nonce: "n",
      rooms: ["desk.night"],
      resume: { session: "s-0", resume_key: "old" },
    });
    expect(stage.kept).toEqual({ session: "s-1", resume_key: "k" });
    expect(link.snapshot.state.word).toBe("open");
  });

  test("asks to be let in, and asks again only when it is joined again", async () => {
    const stage = new Stage();
    const link = stage.open({ token: "t", rooms: [] });
    stage.opened();
    const joined = link.join("desk.gate");
    const { id } = stage.socket.sent.at(-1) as { id: number };
    const ask = { ask: "ask-1", room: "desk.gate", user: "w-02", since: "", until: "" };
    stage.socket.says({ type: "answer", re: id, ask });
    await joined;
    expect(link.snapshot.meeting.asked.get("desk.gate")).toEqual(ask);
    stage.socket.says({ type: "ask", ask: "ask-1", room: "desk.gate", outcome: "refused", by: "e-01" });
    expect(link.snapshot.meeting.asked.get("desk.gate")).toMatchObject({ outcome: "refused", by: "e-01" });
    stage.socket.onclose?.({ code: 1006, reason: "" });
    stage.opened();
    expect(stage.socket.sent[0]).toMatchObject({ type: "hello", rooms: [] });
    link.join("desk.gate");
    expect(link.snapshot.meeting.asked.has("desk.gate")).toBe(false);
  });

  test("goes on asking after a reconnect, and stays in a room that let it in", () => {
    const stage = new Stage();
    const link = stage.open({ token: "t", rooms: ["desk.gate"] });
    const ask = { ask: "ask-1", room: "desk.gate", user: "w-02", since: "", until: "" };
    stage.socket.onopen?.();
    stage.answer({ asked: [ask] });
    expect(link.snapshot.meeting.asked.get("desk.gate")).toEqual(ask);
    stage.socket.says({ type: "ask", ask: "ask-1", room: "desk.gate", outcome: "admitted" });
    stage.socket.onclose?.({ code: 1006, reason: "" });
    stage.opened();
    expect(stage.socket.sent[0]).toMatchObject({ rooms: ["desk.gate"] });
  });

  test("keeps invitations, and stays in the room of one that it accepted", async () => {
    const stage = new Stage();
    const link = stage.open({ token: "t", rooms: [] });
    stage.opened();
    const ended: string[] = [];
    link.onInvitation((end) => ended.push(end.outcome));
    const invitation = {
      invitation: "i-1",
      room: "call.up",
      from: { user: "e-01" },
      to: { user: "w-02" },
      since: "",
      until: "",
    };
    stage.socket.says({ type: "invitations", received: [invitation], sent: [] });
    expect(link.snapshot.meeting.invitations.received).toEqual([invitation]);
    const accepted = link.accept("i-1");
    const { id } = stage.socket.sent.at(-1) as { id: number };
    stage.socket.says({ type: "answer", re: id, joined: "call.up" });
    expect(await accepted).toBe("call.up");
    stage.socket.says({ type: "invitation", outcome: "accepted", ...invitation });
    expect(ended).toEqual(["accepted"]);
    stage.socket.onclose?.({ code: 1006, reason: "" });
    stage.opened();
    expect(stage.socket.sent[0]).toMatchObject({ rooms: ["call.up"] });
  });

  test("says again what the person is doing if the session is another, or it was not heard", async () => {
    const stage = new Stage();
    const link = stage.open({ token: "t", rooms: ["desk.night"] });
    stage.opened();
    link.doing("desk.night", { page: 3 });
    const { id } = stage.socket.sent.at(-1) as { id: number };
    stage.socket.says({ type: "answer", re: id });
    await settled();
    stage.socket.onclose?.({ code: 1006, reason: "" });
    stage.socket.onopen?.();
    stage.socket.says({
      type: "answer",
      re: 1,
      session: "s-1",
      resume_key: "k",
      resumed: true,
      timings: { silence: 1 },
    });
    expect(stage.socket.sent.filter((f) => f.type === "doing")).toEqual([]);
    stage.socket.onclose?.({ code: 1006, reason: "" });
    link.doing("desk.night", { page: 4 }); // while there is no link
    stage.opened(); // as another session
    expect(stage.socket.sent.at(-1)).toMatchObject({ type: "doing", room: "desk.night", data: { page: 4 } });
  });

  test("tells again that the page is hidden when that changed while the hello was under way", () => {
    const stage = new Stage();
    let hidden = false;
    stage.open({ token: "t", page: () => ({ page_hidden: hidden, idle_for: 0 }) });
    hidden = true;
    stage.socket.onopen?.();
    expect(stage.socket.sent.at(-1)).toMatchObject({ type: "hello", page_hidden: true });
    hidden = false;
    stage.answer();
    expect(stage.socket.sent.at(-1)).toMatchObject({ type: "page", page_hidden: false });
  });

  test("answers a beat request at once", () => {
    const stage = new Stage();
    stage.open({ token: "t" });
    stage.opened();
    stage.socket.says({ type: "beat" });
    expect(stage.socket.sent.at(-1)).toEqual({ type: "beat" });
  });

  test("comes back to a service that restarts when it is asked to", () => {
    const stage = new Stage();
    stage.open({ token: "t" });
    stage.opened();
    stage.socket.says({ type: "moving", after: 700 });
    stage.socket.onclose?.({ code: 1012, reason: "the service restarts" });
    stage.pass(699);
    expect(stage.sockets).toHaveLength(1);
    stage.pass(1);
    expect(stage.sockets).toHaveLength(2);
  });

  test("comes back to a service without a place for it when it is asked to, by the same way", () => {
    const stage = new Stage();
    stage.open({ token: "t" });
    for (let i = 1; i <= 9; i++) {
      stage.socket.says({ type: "moving", after: 1830 });
      stage.socket.onclose?.({ code: 1013, reason: "busy" });
      stage.pass(1829);
      expect(stage.sockets).toHaveLength(i);
      stage.pass(1);
      expect(stage.socket.over).toBe("websocket");
    }
    stage.opened();
  });

  test("falls back to an event stream and to beats, and looks for a service that is down with WebSockets", () => {
    const stage = new Stage();
    const link = stage.open({ token: "t" });
    const fails = (reached: boolean) => {
      stage.socket.reached = reached;
      stage.socket.onclose?.({ code: 1006, reason: "" });
      stage.pass(10_000);
    };
    fails(false);
    expect(stage.socket.over).toBe("websocket");
    fails(false);
    expect(stage.socket.over).toBe("stream");
    fails(true); // the ticket came through, the stream did not
    expect(stage.socket.over).toBe("beats");
    stage.opened();
    expect(link.snapshot.state).toEqual({ word: "open", over: "beats" });
    fails(true);
    expect(stage.socket.over).toBe("beats");
    for (let i = 0; i < 7; i++) fails(false);
    expect(stage.socket.over, "what has worked is tried for longer").toBe("beats");
    fails(false);
    expect(stage.socket.over).toBe("websocket");
    fails(false);
    fails(false);
    expect(stage.socket.over).toBe("stream");
    fails(false); // nobody is there at all
    expect(stage.socket.over).toBe("websocket");
  });

  test("tries the way that worked for the length of an outage, and leaves a fallback when a WebSocket passes", () => {
    const stage = new Stage();
    const link = stage.open({ token: "t" });
    stage.opened();
    for (let i = 0; i < 7; i++) {
      stage.socket.onclose?.({ code: 1006, reason: "" });
      stage.pass(10_000);
      expect(stage.socket.over).toBe("websocket");
    }
    stage.opened();
    expect(link.snapshot.state).toEqual({ word: "open", over: "websocket" });

    for (let i = 0; i < 9; i++) {
      stage.socket.onclose?.({ code: 1006, reason: "" });
      stage.pass(10_000);
    }
    expect(stage.socket.over).toBe("stream");
    stage.opened();
    const stream = stage.socket;
    stage.pass(2000);
    const probe = stage.socket;
    expect(probe.over).toBe("websocket");
    expect(link.snapshot.state).toEqual({ word: "open", over: "stream" });
    probe.onclose?.({ code: 1006, reason: "" }); // it does not pass yet
    stage.pass(4000);
    expect(stage.sockets.filter((s) => s.over === "stream").at(-1)).toBe(stream);
    stage.socket.onopen?.();
    expect(stage.socket.over).toBe("websocket");
    stage.opened();
    expect(link.snapshot.state).toEqual({ word: "open", over: "websocket" });
    expect(stream.closed).toBe(true);
  });

  test.each([
    ["lets no hello through after all", (_: Stage) => {}],
    ["has no place yet", (stage: Stage) => stage.socket.says({ type: "moving", after: 900 })],
  ])("goes back to its fallback when a WebSocket %s", (_, says) => {
    const stage = new Stage();
    const link = stage.open({ token: "t" });
    for (let i = 0; i < 2; i++) {
      stage.socket.onclose?.({ code: 1006, reason: "" });
      stage.pass(10_000);
    }
    expect(stage.socket.over).toBe("stream");
    stage.opened();
    stage.pass(2000);
    stage.socket.onopen?.(); // the probe
    says(stage); // to the link that follows it
    stage.socket.onclose?.({ code: 1006, reason: "" });
    stage.pass(900);
    expect(stage.socket.over).toBe("stream");
    stage.opened();
    expect(link.snapshot.state).toEqual({ word: "open", over: "stream" });
  });

  test("leaves out a room that is refused, says why, and asks for it again when that may have changed", async () => {
    const stage = new Stage();
    let n = 0;
    const link = stage.open({ token: async () => `t${++n}`, rooms: ["desk.night", "basin.fen-end"] });
    stage.socket.onopen?.();
    await settled();
    expect(stage.socket.sent.at(-1)).toMatchObject({
      one_by_one: true,
      rooms: ["desk.night", "basin.fen-end"],
    });
    const full = { code: "room-full", detail: "Room full", field: "room", value: "desk.night" };
    stage.answer({ dropped: [{ room: "desk.night", ...full }] });
    expect(link.snapshot.state.word).toBe("open");
    expect(link.snapshot.rooms.get("desk.night")?.problem).toMatchObject({ code: "room-full" });
    expect(link.snapshot.dropped).toHaveLength(1);

    stage.socket.says({ type: "dropped", room: "basin.fen-end", code: "removed", detail: "Removed" });
    expect(link.snapshot.rooms.get("basin.fen-end")?.problem?.code).toBe("removed");
    const renewed = link.renew();
    await settled();
    const renew = stage.socket.sent.at(-1);
    expect(renew).toMatchObject({ type: "renew", token: "t2" });
    stage.socket.says({ type: "answer", re: renew?.id });
    await renewed;
    const joins = stage.socket.sent.filter((f) => f.type === "join");
    expect(joins.map((f) => f.room)).toEqual(["desk.night", "basin.fen-end"]);
    expect(link.snapshot.dropped).toHaveLength(0);
    stage.socket.says({ type: "error", re: joins[0]?.id, ...full });
    await settled();
    expect(link.snapshot.rooms.get("desk.night")?.problem?.code).toBe("room-full");
  });

  test("comes back from a refusal once a new token is accepted", async () => {
    const stage = new Stage();
    let n = 0;
    const link = stage.open({ token: async () => `t${++n}` });
    for (let i = 0; i < 2; i++) {
      stage.socket.onopen?.();
      await settled();
      stage.socket.says({ type: "error", code: "removed", detail: "Removed" });
    }
    expect(link.snapshot.state.word).toBe("refused");
    stage.pass(10_000);
    stage.socket.onopen?.();
    await settled();
    stage.answer();
    expect(link.snapshot.state.word).toBe("open");
  });

  test("does not wait for an answer for ever", async () => {
    const stage = new Stage();
    const link = stage.open({ token: "t" });
    stage.opened();
    const joined = link.join("desk.night");
    stage.pass(15_000);
    await expect(joined).rejects.toMatchObject({ code: "no-answer" });
  });

  test("takes an address with a slash at its end, and none without a scheme", () => {
    const stage = new Stage();
    stage.open({ token: "t", server: "https://presence.test/" });
    expect(stage.socket.url).toBe("wss://presence.test/v1/link");
    expect(() => stage.open({ server: "presence.test" })).toThrow(/http:\/\/ or https:\/\//);
  });

  test("knows what the person has set in another tab", () => {
    const stage = new Stage();
    const link = stage.open({ token: "t" });
    stage.opened();
    expect(link.snapshot.own).toEqual({ hiding: false });
    stage.socket.says({ type: "own", status: "busy", note: "at the sluice", hiding: false });
    expect(link.snapshot.own).toEqual({ status: "busy", note: "at the sluice", hiding: false });
  });

  test("fetches a token for each hello, before the old one expires, and once more when it is refused", async () => {
    const stage = new Stage();
    let n = 0;
    const link = stage.open({ token: async () => `t${++n}` });
    stage.socket.onopen?.();
    await Promise.resolve();
    await Promise.resolve();
    expect(stage.socket.sent[0]).toMatchObject({ type: "hello", token: "t1" });
    stage.socket.says({ type: "error", re: 1, code: "expired-token", detail: "the token expired" });
    stage.socket.onopen?.();
    await Promise.resolve();
    await Promise.resolve();
    expect(stage.socket.sent[0]).toMatchObject({ type: "hello", token: "t2" });
    stage.answer();
    stage.socket.says({ type: "expiring", expires: "2026-11-23T19:00:00.000Z" });
    await Promise.resolve();
    await Promise.resolve();
    expect(stage.socket.sent.at(-1)).toMatchObject({ type: "renew", token: "t3" });
    expect(link.snapshot.state.word).toBe("open");
  });

  test("answers what was asked, and rejects what was refused or lost", async () => {
    const stage = new Stage();
    const link = stage.open({ token: "t" });
    stage.opened();
    const cue = link.cue({ room: "desk.night" }, "wave");
    stage.socket.says({ type: "answer", re: stage.socket.sent.at(-1)?.id, links: 3 });
    expect(await cue).toBe(3);
    const join = link.join("desk.day");
    const why = {
      code: "not-granted",
      detail: "the token does not grant this",
      field: "room",
      value: "desk.day",
      allowed: "basin.*",
    };
    stage.socket.says({ type: "error", re: stage.socket.sent.at(-1)?.id, ...why });
    const message = 'the token does not grant this: room is "desk.day"; allowed: basin.*';
    await expect(join).rejects.toMatchObject({ code: "not-granted", message });
    const lost = link.setStatus("busy");
    stage.socket.onclose?.({ code: 1006, reason: "" });
    await expect(lost).rejects.toBeInstanceOf(Refused);
  });

  test("says which revisions it has, and keeps what it goes on from", () => {
    const stage = new Stage();
    const link = stage.open({ token: "t", rooms: ["desk.night"] });
    stage.opened();
    const tally = { people: 0, sessions: 0 };
    const count = { ...tally, online: tally, away: tally, busy: tally };
    stage.socket.says({ type: "snapshot", room: "desk.night", rev: "r.3", count, members: [] });
    stage.socket.says({
      type: "snapshot",
      room: "basin.fen-end",
      rev: "q.1",
      count: { ...count, people: 1 },
      members: [],
    });
    stage.socket.onclose?.({ code: 1006, reason: "" });
    stage.socket.onopen?.();
    expect(stage.socket.sent[0]).toMatchObject({ revs: { "desk.night": "r.3", "basin.fen-end": "q.1" } });
    stage.answer({ revs: { "desk.night": "current" } });
    expect([...link.snapshot.rooms.keys()]).toEqual(["desk.night"]);
  });

  test("reconnects at once, then after growing waits, and resumes", () => {
    const stage = new Stage();
    const link = stage.open({ token: "t" });
    stage.opened();
    stage.socket.onclose?.({ code: 1006, reason: "" });
    expect(stage.sockets).toHaveLength(2);
    stage.socket.onclose?.({ code: 1006, reason: "" });
    expect(link.snapshot.state).toEqual({ word: "lost", reason: "the connection closed (1006)" });
    stage.pass(499);
    expect(stage.sockets).toHaveLength(2);
    stage.pass(1);
    stage.opened();
    expect(stage.socket.sent[0]).toMatchObject({ resume: { session: "s-1", resume_key: "k" } });
  });

  test("gives up an attempt under way when it is told to try again now", () => {
    const stage = new Stage();
    const link = stage.open({ token: "t" });
    stage.opened();
    stage.socket.onclose?.({ code: 1006, reason: "" });
    const slow = stage.socket;
    link.retry();
    expect(stage.sockets).toHaveLength(3);
    expect(slow.closed).toBe(true);
    slow.onopen?.();
    expect(slow.sent, "one page says one hello").toHaveLength(0);
    stage.opened();
    expect(link.snapshot.state.word).toBe("open");
  });

  test("takes a missing beat request for a dead link", () => {
    const stage = new Stage();
    const link = stage.open({ token: "t" });
    stage.opened();
    stage.pass(37_499);
    stage.socket.says({ type: "beat" });
    stage.pass(37_499);
    expect(link.snapshot.state.word).toBe("open");
    stage.pass(1);
    expect(stage.sockets[0]?.closed).toBe(true);
    expect(stage.sockets).toHaveLength(2);
  });

  test("has the first members of a room that a pattern matches as joined, and those of a named room as known", () => {
    const stage = new Stage();
    const watch = [
      { room: "desk.night", detail: "members" },
      { room: "basin.*", detail: "members" },
      { room: "sluice.*", detail: "count" },
    ] as const;
    const link = stage.open({ key: "key", watch });
    const joined: string[] = [];
    link.onChange((change) => joined.push(...change.joined.map((m) => `${m.user} in ${change.room}`)));
    stage.opened();
    const tally = { people: 1, sessions: 1 };
    const count = { ...tally, online: tally, away: tally, busy: tally };
    const members = [{ user: "ilse", status: "online", sessions: 1, since: "2026-11-14T19:00:00Z" }];
    for (const room of ["desk.night", "basin.fen-end"])
      stage.socket.says({ type: "snapshot", room, rev: "r-1", count, members });
    stage.socket.says({ type: "count", room: "sluice.mill-lane", rev: "r-1", ...count });
    expect(joined).toEqual(["ilse in basin.fen-end"]);
    expect(link.snapshot.rooms.get("sluice.mill-lane")?.members).toBeUndefined();
  });

  test("tries no other kind of link where there are WebSockets only", () => {
    const stage = new Stage();
    stage.open({ token: "t", noInput: true }, { webSocketOnly: true });
    for (let i = 0; i < 20; i++) {
      stage.socket.onclose?.({ code: 1006, reason: "" });
      stage.pass(10_000);
    }
    expect(stage.sockets.every(({ over }) => over === "websocket")).toBe(true);
    stage.opened();
    expect(stage.socket.sent[0]).toMatchObject({ type: "hello", no_input: true });
  });

  test("does not try again what was refused, and says why", () => {
    const stage = new Stage();
    const link = stage.open({ token: "t" });
    stage.socket.onopen?.();
    stage.socket.says({ type: "error", re: 1, code: "expired-token", detail: "the token expired" });
    stage.socket.onclose?.({ code: 4701, reason: "expired-token" });
    stage.pass(60_000);
    expect(link.snapshot.state).toEqual({ word: "refused", reason: "the token expired" });
    expect(stage.sockets).toHaveLength(1);
  });

  test("tries again when a hello came too late or too many came, as after a machine's sleep", () => {
    const stage = new Stage();
    const link = stage.open({ token: "t" });
    stage.socket.onopen?.();
    for (const code of ["hello-timeout", "busy"]) {
      stage.socket.says({ type: "error", code, detail: "not now" });
      stage.socket.onclose?.({ code: 4701, reason: code });
      expect(link.snapshot.state).not.toMatchObject({ word: "refused" });
      stage.pass(10_000);
    }
    stage.opened();
    expect(link.snapshot.state.word).toBe("open");
  });

  test("keeps nothing after bye, and what it had after close", () => {
    const stage = new Stage();
    const link = stage.open({ token: "t" });
    stage.opened();
    link.close();
    expect(stage.kept).toBeDefined();
    link.retry();
    stage.opened();
    link.bye();
    expect(stage.socket.sent.at(-1)).toMatchObject({ type: "bye" });
    expect(stage.kept).toBeUndefined();
    stage.pass(60_000);
    expect(stage.sockets).toHaveLength(2);
  });

  test("follows the first members, and without what they do, also after a reconnect and a refusal", async () => {
    const stage = new Stage();
    const link = stage.open({ token: async () => "t", rooms: ["desk.night"], following: { limit: 3 } });
    stage.socket.onopen?.();
    await settled();
    expect(stage.socket.sent.at(-1)).toMatchObject({ rooms: ["desk.night"], limit: 3 });
    stage.answer({});
    void link.join("basin.fen-end");
    expect(stage.socket.sent.at(-1)).toMatchObject({ type: "join", limit: 3 });
    const following = { without: ["doing"], limit: 5 } as const;
    void link.watch("sluice.*", "members", following).catch(() => {});
    const watch = { room: "sluice.*", detail: "members", ...following };
    expect(stage.socket.sent.at(-1)).toMatchObject({ type: "watch", ...watch });
    const refused = { code: "not-granted", detail: "Not granted" };
    stage.socket.says({ type: "error", re: stage.socket.sent.at(-1)?.id, ...refused });
    await settled();
    void link.renew("t2");
    await settled();
    stage.socket.says({ type: "answer", re: stage.socket.sent.at(-1)?.id });
    await settled();
    expect(stage.socket.sent.at(-1)).toMatchObject({ type: "watch", ...watch });
    link.drop(100);
    stage.pass(100);
    stage.socket.onopen?.();
    await settled();
    expect(stage.socket.sent.at(-1)).toMatchObject({ type: "hello", limit: 3, watch: [watch] });
  });

  test("lets go of rooms that a pattern caught when they empty, or a reconnect may have missed it", () => {
    const stage = new Stage();
    const link = stage.open({ key: "k", watch: [{ room: "**", detail: "count" }] });
    stage.opened();
    const count = (room: string, people: number) => ({
      type: "count",
      room,
      rev: "r.1",
      people,
      sessions: people,
    });
    stage.socket.says(count("desk.night", 2));
    stage.socket.says(count("basin.fen-end", 1));
    stage.socket.says(count("desk.night", 0));
    expect([...link.snapshot.rooms.keys()]).toEqual(["basin.fen-end"]);
    link.drop(100);
    stage.pass(100);
    stage.opened();
    expect(link.snapshot.rooms.size).toBe(0);
  });
});
