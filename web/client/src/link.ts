import { apply, type Change, type Room } from "./replica";
import type { Detail, Frame, Problem, RoomFrame, Watch, Welcome } from "./wire";

const version = 1;

/** How the link is: a word, and the reason where there is one. */
export interface State {
  readonly word: "connecting" | "open" | "lost" | "refused" | "closed";
  readonly reason?: string;
}

/** The session that a page goes on with after a reload. */
export interface Kept {
  readonly session: string;
  readonly key: string;
}

/** Where a session is kept between loads of a page. */
export interface Memory {
  load(): Kept | undefined;
  save(kept: Kept | undefined): void;
}

/** What a link needs of its surroundings. A page has it; a test passes its own. */
export interface Surroundings {
  connect(url: string): Socket;
  after(ms: number, run: () => void): () => void;
  /** From 0 up to 1. */
  random(): number;
}

/** The part of a WebSocket that is used. */
export interface Socket {
  onopen: (() => void) | null;
  onmessage: ((event: { data: unknown }) => void) | null;
  onclose: ((event: { code: number; reason: string }) => void) | null;
  send(text: string): void;
  close(code?: number, reason?: string): void;
}

export interface LinkOptions {
  /** The address of the service, as in https://presence.example. */
  readonly server: string;
  /** A person's: takes part. */
  readonly token?: string;
  /** An operator's: may only watch. */
  readonly key?: string;
  /** The rooms to be in. */
  readonly rooms?: readonly string[];
  /** What to follow without being in it. */
  readonly watch?: readonly Watch[];
  /** Names this load of the page. */
  readonly nonce?: string;
  readonly memory?: Memory;
  /** What each hello says besides, as it is at that moment. */
  readonly page?: () => { readonly hidden: boolean; readonly idle_for: number };
  readonly surroundings?: Surroundings;
}

/** Everything that a link knows at a moment, never changed in place. */
export interface Snapshot {
  readonly state: State;
  readonly welcome?: Welcome;
  readonly problem?: Problem;
  readonly rooms: ReadonlyMap<string, Room>;
}

/** A new link is tried at once, then after waits that grow to this and are spread out. */
const longestWait = 10_000;

/**
 * A connection to the service that is made again whenever it is lost, and what is followed over it. It
 * answers the service's beat requests, and takes a missing request for a dead link.
 */
export class Link {
  readonly #options: LinkOptions;
  readonly #around: Surroundings;
  readonly #listeners = new Set<() => void>();
  readonly #changeListeners = new Set<(change: Change) => void>();
  #snapshot: Snapshot = { state: { word: "connecting" }, rooms: new Map() };
  #socket: Socket | undefined;
  #stopTimer: () => void = () => {};
  #attempts = 0;
  #moving: number | undefined;
  #lastID = 0;
  #toldHidden: boolean | undefined;
  #rooms: string[];
  #watches: Watch[];

  constructor(options: LinkOptions) {
    this.#options = options;
    this.#around = options.surroundings ?? page;
    this.#rooms = [...(options.rooms ?? [])];
    this.#watches = [...(options.watch ?? [])];
    this.#connect();
  }

  /** What is known now. The same object until something changes. */
  get snapshot(): Snapshot {
    return this.#snapshot;
  }

  /** Calls back after each change of the snapshot. Returns what undoes it. */
  subscribe(listener: () => void): () => void {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  }

  /** Calls back with who came, changed and left. Returns what undoes it. */
  onChange(listener: (change: Change) => void): () => void {
    this.#changeListeners.add(listener);
    return () => this.#changeListeners.delete(listener);
  }

  /** Puts the session into a room, now and after each reconnect. */
  join(room: string): void {
    if (!this.#rooms.includes(room)) this.#rooms.push(room);
    this.#request({ type: "join", room });
  }

  /** Takes the session out of a room. */
  leave(room: string): void {
    this.#rooms = this.#rooms.filter((r) => r !== room);
    this.#forget(room);
    this.#request({ type: "leave", room });
  }

  /** Follows the rooms that a name or pattern names, without being in them. */
  watch(room: string, detail: Detail): void {
    this.#watches = [...this.#watches.filter((w) => w.room !== room), { room, detail }];
    this.#request({ type: "watch", room, detail });
  }

  /** Stops following. */
  unwatch(room: string): void {
    this.#watches = this.#watches.filter((w) => w.room !== room);
    this.#forget(room);
    this.#request({ type: "unwatch", room });
  }

  /** Says that somebody is doing something at the page. */
  activity(): void {
    this.#request({ type: "activity" });
  }

  /** Says whether the page is hidden. Browsers slow the timers of hidden pages. */
  pageHidden(hidden: boolean): void {
    this.#request({ type: "page", hidden });
  }

  /** Ends the session now, and the link. */
  bye(): void {
    this.#request({ type: "bye" });
    this.#options.memory?.save(undefined);
    this.#end({ word: "closed", reason: "bye" });
  }

  /** Ends the link and leaves the session to its grace. */
  close(): void {
    this.#end({ word: "closed" });
  }

  /** Drops the connection without a word, as a pulled cable does, and reconnects after a while. */
  drop(ms: number): void {
    this.#lose("the cable was pulled", ms);
  }

  /** Tries again now, when the network or the page has come back. */
  retry(): void {
    if (this.#snapshot.state.word === "lost" || this.#snapshot.state.word === "closed") this.#connect();
  }

  #connect(): void {
    this.#stopTimer();
    this.#detach(); // an attempt that is still under way gives way to this one
    const { server, token, key, nonce, memory } = this.#options;
    const socket = this.#around.connect(`${server.replace(/^http/, "ws")}/v1/link`);
    this.#socket = socket;
    socket.onopen = () => {
      if (this.#socket !== socket) return;
      const resume = token ? memory?.load() : undefined;
      const hello = {
        type: "hello",
        id: ++this.#lastID,
        version,
        token,
        key,
        nonce,
        resume,
        watch: this.#watches,
      };
      const page = this.#options.page?.();
      this.#toldHidden = page?.hidden;
      const own = { ...page, rooms: this.#rooms };
      socket.send(JSON.stringify(token ? { ...hello, ...own } : hello));
    };
    socket.onmessage = (event) => {
      if (this.#socket === socket) this.#receive(JSON.parse(String(event.data)) as Frame);
    };
    socket.onclose = (event) => {
      if (this.#socket !== socket) return;
      const wait = this.#moving; // a service that restarts says when it wants whom back
      this.#moving = undefined;
      this.#lose(event.reason || `the connection closed (${event.code})`, wait);
    };
  }

  #receive(frame: Frame): void {
    this.#expectMore();
    switch (frame.type) {
      case "beat":
        this.#socket?.send('{"type":"beat"}');
        return;
      case "answer":
        if (frame.timings) this.#greeted(frame as Welcome);
        return;
      case "error":
        this.#refused(frame);
        return;
      case "moving":
        this.#moving = frame.after;
        return;
      case "snapshot":
      case "changes":
      case "count":
        this.#apply(frame);
    }
  }

  #greeted(welcome: Welcome): void {
    this.#attempts = 0;
    if (welcome.session && welcome.key) {
      this.#options.memory?.save({ session: welcome.session, key: welcome.key });
    }
    // Rooms followed by name stay until their snapshots come. Of those that a pattern caught, nobody would
    // tell that they ended meanwhile, so they are forgotten; those that live come at once.
    const rooms = new Map([...this.#snapshot.rooms].filter(([room]) => this.#named(room)));
    this.#update({ state: { word: "open" }, welcome, rooms });
    this.#expectMore();
    const hidden = this.#options.page?.().hidden;
    if (welcome.session && hidden !== undefined && hidden !== this.#toldHidden) this.pageHidden(hidden);
  }

  /** Before the welcome, a problem is the end: the same hello would be refused again. */
  #refused(problem: Problem): void {
    if (this.#snapshot.state.word === "open") {
      this.#update({ ...this.#snapshot, problem });
      return;
    }
    this.#end({ word: "refused", reason: problem.detail }, problem);
  }

  #apply(frame: RoomFrame): void {
    const [room, change] = apply(this.#snapshot.rooms.get(frame.room), frame);
    const rooms = new Map(this.#snapshot.rooms);
    if (room.count.people > 0 || this.#named(room.room)) rooms.set(room.room, room);
    else rooms.delete(room.room);
    this.#update({ ...this.#snapshot, rooms });
    if (change.joined.length + change.changed.length + change.left.length > 0) {
      for (const listener of this.#changeListeners) listener(change);
    }
  }

  #named(room: string): boolean {
    return this.#rooms.includes(room) || this.#watches.some((w) => w.room === room);
  }

  #forget(room: string): void {
    const rooms = new Map(this.#snapshot.rooms);
    if (rooms.delete(room)) this.#update({ ...this.#snapshot, rooms });
  }

  /** The service asks for a beat when it hears nothing; when even that stops, the link is dead. */
  #expectMore(): void {
    this.#stopTimer();
    const silence = this.#snapshot.welcome?.timings.silence;
    if (silence) this.#stopTimer = this.#around.after(silence, () => this.#lose("the service fell silent"));
  }

  #lose(reason: string, wait?: number): void {
    this.#detach();
    this.#update({ ...this.#snapshot, state: { word: "lost", reason } });
    const most = Math.min(longestWait, 500 * 2 ** this.#attempts);
    const next = wait ?? (this.#attempts === 0 ? 0 : most * (0.5 + this.#around.random() / 2));
    this.#attempts++;
    this.#stopTimer();
    if (next === 0) this.#connect();
    else this.#stopTimer = this.#around.after(next, () => this.#connect());
  }

  #end(state: State, problem?: Problem): void {
    this.#stopTimer();
    this.#detach();
    this.#update({ ...this.#snapshot, state, ...(problem ? { problem } : {}) });
  }

  #detach(): void {
    const socket = this.#socket;
    this.#socket = undefined;
    socket?.close();
  }

  #request(frame: object): void {
    if (this.#snapshot.state.word === "open") {
      this.#socket?.send(JSON.stringify({ ...frame, id: ++this.#lastID }));
    }
  }

  #update(snapshot: Snapshot): void {
    this.#snapshot = snapshot;
    for (const listener of this.#listeners) listener();
  }
}

const page: Surroundings = {
  connect: (url) => new WebSocket(url) as Socket,
  after: (ms, run) => {
    const timer = setTimeout(run, ms);
    return () => clearTimeout(timer);
  },
  random: Math.random,
};
