import type { Ask, Device, Doing, Invitations, Problem } from "./wire";

/** The kinds of link: a WebSocket; an event stream with posts; or HTTP beats, which bring counts only. */
export type Over = "websocket" | "stream" | "beats";

/** The part of a WebSocket that is used. */
export interface Socket {
  /** Of the other kinds of link: the service has answered a request. */
  readonly reached?: boolean;
  onopen: (() => void) | null;
  onmessage: ((event: { data: unknown }) => void) | null;
  onclose: ((event: { code: number; reason: string }) => void) | null;
  send(text: string): void;
  close(code?: number, reason?: string): void;
}

/** What the kinds other than WebSocket need from a page; a test passes its own. */
export interface Network {
  fetch(url: string, init: RequestInit): Promise<Response>;
  events(url: string): Events;
  after(ms: number, run: () => void): () => void;
}

/** The part of an EventSource that is used. */
export interface Events {
  onmessage: ((event: { data: string }) => void) | null;
  onerror: (() => void) | null;
  readonly readyState: number;
  addEventListener(type: "closed" | "still", listener: (event: { data: string }) => void): void;
  close(): void;
}

interface Sent {
  readonly type: string;
  readonly id?: number;
  readonly token?: string;
  readonly resume_key?: string;
  readonly room?: string;
  readonly on?: boolean;
  readonly page_hidden?: boolean;
  readonly rooms?: readonly string[];
  readonly resume?: { readonly session: string; readonly resume_key: string };
  readonly nonce?: string;
  readonly idle_for?: number;
  readonly revs?: Readonly<Record<string, string>>;
  readonly device?: Device;
  readonly data?: Doing;
}

/** The part of the answer to a beat that is about asks and invitations. */
interface Lease {
  readonly rooms: readonly string[];
  readonly asked?: readonly Ask[];
  readonly invitations?: Invitations;
}

/** Behaves like a WebSocket, so that a Link need not know the difference. */
abstract class Other implements Socket {
  onopen: (() => void) | null = null;
  onmessage: ((event: { data: unknown }) => void) | null = null;
  onclose: ((event: { code: number; reason: string }) => void) | null = null;
  reached = false;
  protected over = false;

  constructor(
    protected readonly server: string,
    protected readonly network: Network,
  ) {
    network.after(0, () => this.over || this.onopen?.());
  }

  send(text: string): void {
    const frame = JSON.parse(text) as Sent;
    this.carry(frame).catch((error) => this.lose(1006, String(error)));
  }

  close(): void {
    this.over = true;
  }

  protected abstract carry(frame: Sent): Promise<void>;

  /** Calls the service, and delivers the answer as a frame, or the problem as an error frame. */
  protected async call(method: string, path: string, bearer: string | undefined, body: object, re?: number) {
    const response = await this.network.fetch(this.server + path, {
      method,
      headers: bearer ? { Authorization: `Bearer ${bearer}` } : {},
      body: method === "DELETE" ? null : JSON.stringify(body),
      cache: "no-store",
    });
    const answer = await response.json();
    this.reached = true;
    if (response.ok) return answer;
    if (response.status >= 500) throw new Error(answer.detail);
    this.give({ type: "error", re, ...(answer as Problem) });
    return undefined;
  }

  protected give(frame: object): void {
    if (!this.over) this.onmessage?.({ data: JSON.stringify(frame) });
  }

  protected lose(code: number, reason: string): void {
    if (this.over) return;
    this.close();
    this.onclose?.({ code, reason });
  }
}

/**
 * An event stream with its requests as posts. The service sends signs of life on it. When they stop, or the browser
 * reports that the stream broke, the link is lost, whatever happens to the requests.
 */
export class Stream extends Other {
  #events: Events | undefined;
  #silence = 0;
  #stopWatch: () => void = () => {};
  #posts: string | undefined;
  #resumeKey: string | undefined;

  protected async carry(frame: Sent): Promise<void> {
    if (frame.type === "hello") return this.#open(frame);
    if (!this.#posts) {
      this.give({ type: "error", re: frame.id, ...withoutSession });
      return;
    }
    const answer = await this.call("POST", this.#posts, this.#resumeKey, frame, frame.id);
    if (answer && frame.id !== undefined) this.give(answer);
  }

  override close(): void {
    super.close();
    this.#stopWatch();
    this.#events?.close();
  }

  #alive(): void {
    this.#stopWatch();
    if (this.#silence > 0 && !this.over) {
      this.#stopWatch = this.network.after(this.#silence, () =>
        this.lose(1006, "the event stream fell silent"),
      );
    }
  }

  async #open(hello: Sent): Promise<void> {
    const ticket = await this.call("POST", "/v1/tickets", undefined, hello, hello.id);
    if (!ticket || this.over) return;
    const events = this.network.events(this.server + ticket.feed);
    this.#events = events;
    events.onmessage = ({ data }) => this.#receive(data);
    events.addEventListener("still", () => {
      this.#alive();
      this.give({ type: "still" });
    });
    events.addEventListener("closed", ({ data }) => {
      const { code, reason } = JSON.parse(data);
      this.lose(code, reason);
    });
    events.onerror = () => this.lose(1006, "the event stream broke");
  }

  #receive(data: string): void {
    const frame = JSON.parse(data);
    if (frame.timings) {
      this.#posts = frame.posts;
      this.#resumeKey = frame.resume_key;
      this.#silence = frame.timings.silence;
    }
    this.#alive();
    this.give(frame);
  }
}

/** A session without a connection. It lives as long as it calls. */
export class Beats extends Other {
  #hello: Sent | undefined;
  #session = "new";
  #resumeKey: string | undefined;
  #rooms: readonly string[] = [];
  #typing: readonly string[] = [];
  #pageHidden = false;
  #revs: Record<string, string> = {};
  #asked: readonly Ask[] = [];
  #invitations = "";
  #stop: () => void = () => {};

  protected async carry(frame: Sent): Promise<void> {
    switch (frame.type) {
      case "hello":
        this.#hello = frame;
        this.#session = frame.resume?.session ?? "new";
        this.#resumeKey = frame.resume?.resume_key;
        this.#rooms = frame.rooms ?? [];
        this.#pageHidden = frame.page_hidden ?? false;
        return this.#beat(frame, { rooms: this.#rooms, idle_for: frame.idle_for });
      case "join":
        this.#rooms = [...new Set([...this.#rooms, frame.room ?? ""])];
        return this.#beat(frame, { rooms: this.#rooms });
      case "leave":
        this.#rooms = this.#rooms.filter((room) => room !== frame.room);
        return this.#beat(frame, { rooms: this.#rooms });
      case "typing":
      case "sent": {
        const others = this.#typing.filter((room) => room !== frame.room);
        this.#typing = frame.type === "typing" && frame.on !== false ? [...others, frame.room ?? ""] : others;
        return this.#beat(frame, { typing: this.#typing });
      }
      case "doing":
        return this.#beat(frame, { doing: { [frame.room ?? ""]: frame.data ?? null } });
      case "activity":
        return this.#beat(frame, { idle_for: frame.idle_for });
      case "idle":
        return this.#beat(frame, { idle: true });
      case "page":
        this.#pageHidden = frame.page_hidden ?? false;
        return this.#beat(frame, {});
      case "bye":
        await this.call("DELETE", `/v1/sessions/${this.#session}`, this.#resumeKey, {}, frame.id);
        this.lose(1000, "bye");
        return;
      case "beat":
        return;
    }
    this.give({ type: "error", re: frame.id, ...notOverBeats });
  }

  override close(): void {
    super.close();
    this.#stop();
  }

  /** Tells what became of asks since the last lease. Which answer there was, if any, only the time tells. */
  #tellAsks({ rooms, asked = [], invitations = { received: [], sent: [] } }: Lease): void {
    for (const { ask, room, until } of this.#asked) {
      if (asked.some((a) => a.ask === ask)) continue;
      const admitted = rooms.includes(room);
      const unanswered = Date.parse(until) <= Date.now() ? "expired" : "refused";
      if (!admitted) this.#rooms = this.#rooms.filter((other) => other !== room);
      this.give({ type: "ask", ask, room, outcome: admitted ? "admitted" : unanswered });
    }
    this.#asked = asked;
    const text = JSON.stringify(invitations);
    if (text !== this.#invitations) this.give({ type: "invitations", ...invitations });
    this.#invitations = text;
  }

  async #beat(frame: Sent | undefined, said: object): Promise<void> {
    this.#stop();
    const body = {
      resume_key: this.#resumeKey,
      nonce: this.#hello?.nonce,
      page_hidden: this.#pageHidden,
      device: this.#hello?.device,
      revs: this.#revs,
      ...said,
    };
    const lease = await this.call(
      "PUT",
      `/v1/sessions/${this.#session}`,
      this.#hello?.token,
      body,
      frame?.id,
    );
    if (!lease && !frame) this.lose(1006, "a beat was refused"); // as with a token that has expired
    if (!lease || this.over) return;
    const lost = frame?.type !== "hello" && !lease.resumed;
    this.#session = lease.session;
    this.#resumeKey = lease.resume_key;
    if (frame?.type === "hello") {
      const { session, resume_key, resumed, not_resumed, user, rooms, asked, invitations } = lease;
      this.#asked = asked ?? [];
      const revs = Object.fromEntries(Object.keys(frame.revs ?? {}).map((room) => [room, "snapshot"]));
      this.give({
        type: "answer",
        re: frame.id,
        session,
        resume_key,
        link: 1,
        resumed,
        not_resumed,
        user,
        rooms,
        asked,
        invitations,
        revs,
        timings: { ...noTimings, beat_every: lease.lease / 3, silence: lease.lease },
      });
    } else {
      const ask = lease.asked?.find((a: Ask) => a.room === frame?.room);
      this.give(
        frame?.id === undefined
          ? { type: "beat" }
          : { type: "answer", re: frame.id, ...(ask ? { ask } : {}) },
      );
      this.#tellAsks(lease);
    }
    if (lost) return this.#beat(undefined, { rooms: this.#rooms }); // it had ended; the new one is nowhere yet
    for (const count of lease.counts) {
      this.#revs[count.room] = count.rev;
      this.give({ type: "count", ...count });
    }
    this.#stop = this.network.after(Math.min(lease.lease / 3, longestPause), () => {
      this.#beat(undefined, {}).catch((error) => this.lose(1006, String(error)));
    });
  }
}

/** The greatest age of counts. */
const longestPause = 10_000;

const noTimings = {
  grace_closing: 0,
  grace_lost: 0,
  grace_background: 0,
  idle_after: 300_000,
  activity_every: 20_000,
  longest_ghost: 0,
  typing_expires: 6000,
};

const withoutSession: Problem = {
  code: "watch-only",
  detail: "this link has no session, and an event stream takes requests for a session only",
  allowed: "what is to be followed, in the options",
};

const notOverBeats: Problem = {
  code: "not-over-beats",
  detail: "neither WebSockets nor event streams pass here, and HTTP beats cannot carry this",
  allowed: "join, leave, typing, sent, doing, activity, idle, bye",
};
