import { asking, type Meeting, meet, nothing, opening, without } from "./meeting";
import { apply, begun, type Change, type Room, refusedRoom } from "./replica";
import { local, Refused, Requests } from "./requests";
import { page, type Surroundings } from "./surroundings";
import type { Over, Socket } from "./transports";
import type {
  Addressee,
  Answer,
  CueFrame,
  Detail,
  Device,
  Doing,
  Drop,
  Following,
  Frame,
  InvitationEnd,
  Opened,
  Own,
  Page,
  PersonFrame,
  Problem,
  RoomFrame,
  Watch,
} from "./wire";

const version = 1;

/** The state of a link: a word, and the reason if there is one. */
export interface State {
  readonly word: "connecting" | "open" | "lost" | "refused" | "closed";
  readonly reason?: string;
  /** The kinds of link to try, in order. The first that works is used. */
  readonly over?: Over;
}

/** A token, or a function that fetches a new one: at each hello, and before the current one expires. */
export type TokenSource = string | (() => string | Promise<string>);

/** More about a status that is set. */
export interface StatusMore {
  /** One of the policy's own words for the status. */
  readonly label?: string;
  /** The status ends with this session. */
  readonly thisSession?: boolean;
}

/** The session that a page resumes after a reload. */
export interface Kept {
  readonly session: string;
  readonly resume_key: string;
}

/** Where a session is stored between loads of a page. */
export interface Memory {
  load(): Kept | undefined;
  save(kept: Kept | undefined): void;
}

export interface LinkOptions {
  /** The URL of the service, as in https://presence.example. */
  readonly server: string;
  /** A person's token: the link has a session and takes part. */
  readonly token?: TokenSource;
  /** An operator's key: the link only watches. */
  readonly key?: string;
  /** The rooms to be in. */
  readonly rooms?: readonly string[];
  /** The kind of this device, which other members see. */
  readonly device?: Device;
  /** The session has no human input: it is active while its link lives. The token must grant it. */
  readonly noInput?: boolean;
  /** What of the rooms is followed; everything unless it says otherwise. */
  readonly following?: Following;
  /** A link of a person without a session, who is not shown anywhere. */
  readonly watchOnly?: boolean;
  /** The longest pause between two attempts to connect, in milliseconds; default 10,000. */
  readonly longestWait?: number;
  /** The rooms and patterns to follow without being in them. */
  readonly watch?: readonly Watch[];
  /** The people to follow. */
  readonly people?: readonly string[];
  /** A name for this load of the page. */
  readonly nonce?: string;
  readonly memory?: Memory;
  /** More fields for each hello, as they are at that moment. */
  readonly page?: () => { readonly page_hidden: boolean; readonly idle_for: number };
  readonly surroundings?: Surroundings;
}

/** Everything that a link knows at a moment. It is immutable. */
export interface Snapshot {
  readonly state: State;
  readonly opened?: Opened;
  readonly problem?: Problem;
  readonly rooms: ReadonlyMap<string, Room>;
  /** The watched people, by id. */
  readonly people: ReadonlyMap<string, PersonFrame>;
  /** What the person has set for all their sessions, in any tab. */
  readonly own?: Own;
  /**
   * Rooms, watches and people that the service does not deliver, or no longer, each with the reason. A room has the
   * reason as its `problem`, too.
   */
  readonly dropped: readonly Drop[];
  /** Asks to be let into rooms, and invitations. */
  readonly meeting: Meeting;
}

/** What is known before a link is opened. */
export const unopened: Snapshot = {
  state: { word: "connecting" },
  rooms: new Map(),
  people: new Map(),
  dropped: [],
  meeting: nothing,
};

/** The first attempt to connect is made at once; the pauses between further ones grow to this, and are randomised. */
const longestWait = 10_000;

/**
 * How many attempts in a row a kind of link gets before another is tried: few if it has never worked, more if it has,
 * because then the service is probably down.
 */
const triesOfUnknown = 2;
const triesOfWorked = 8;

/**
 * While another kind than WebSocket is in use, a WebSocket is tried after this time, and then less and less often.
 */
const firstProbe = 2_000;
const longestProbe = 300_000;

/** The close code of an ended session. The client must not return by itself. */
const ended = 4706;

/** The codes of refused hellos that may succeed later unchanged. */
const passing = new Set([
  "hello-timeout",
  "too-fast",
  "too-many-links",
  "busy",
  "not-ready",
  "internal",
  "quota-reached",
]);

/** The codes of refused tokens after which another token may be accepted. */
const ofToken = new Set(["bad-token", "expired-token", "not-granted", "not-admitted", "removed"]);

/** Time limit for the answer to a hello, and to a beat that checks a link. */
const helloWait = 10_000;
const checkWait = 3000;

/**
 * A link that reconnects whenever it is lost, and what is followed over it. It answers the service's beat requests;
 * if none arrives for too long, the link is dead.
 */
export class Link {
  readonly #options: LinkOptions;
  readonly #around: Surroundings;
  readonly #listeners = new Set<() => void>();
  readonly #changeListeners = new Set<(change: Change) => void>();
  readonly #cueListeners = new Set<(cue: CueFrame) => void>();
  readonly #requests: Requests;
  readonly #invitationListeners = new Set<(end: InvitationEnd) => void>();
  /** What the person is doing, by room, and whether the service has been told. */
  readonly #doing = new Map<string, { readonly data: Doing; told: boolean }>();
  #snapshot: Snapshot = unopened;
  #socket: Socket | undefined;
  #stopTimer: () => void = () => {};
  #attempts = 0;
  #moving: number | undefined;
  #toldPageHidden: boolean | undefined;
  #rooms: string[];
  #watches: Watch[];
  #people: string[];
  #triedFresh = false;
  #over: Over = "websocket";
  #worked: Over | undefined;
  #closedDoors = 0;
  #stopProbe: () => void = () => {};
  #probeWait = firstProbe;
  #upgradingFrom: Over | undefined;

  constructor(options: LinkOptions) {
    this.#options = { ...options, server: addressOf(options.server) };
    this.#around = options.surroundings ?? page;
    this.#requests = new Requests(this.#around.after);
    this.#rooms = [...(options.rooms ?? [])];
    this.#watches = [...(options.watch ?? [])];
    this.#people = [...(options.people ?? [])];
    this.#connect();
  }

  /** The current snapshot. It is the same object until something changes. */
  get snapshot(): Snapshot {
    return this.#snapshot;
  }

  /** Calls back after each change of the snapshot. Returns a function that stops it. */
  subscribe(listener: () => void): () => void {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  }

  /** Calls back with who joined, changed and left. Returns a function that stops it. */
  onChange(listener: (change: Change) => void): () => void {
    this.#changeListeners.add(listener);
    return () => this.#changeListeners.delete(listener);
  }

  /** Calls back with each cue for this session. Returns a function that stops it. */
  onCue(listener: (cue: CueFrame) => void): () => void {
    this.#cueListeners.add(listener);
    return () => this.#cueListeners.delete(listener);
  }

  /** Calls back with each invitation, received or sent, that has ended. Returns a function that stops it. */
  onInvitation(listener: (end: InvitationEnd) => void): () => void {
    this.#invitationListeners.add(listener);
    return () => this.#invitationListeners.delete(listener);
  }

  /**
   * Joins a room, now and after each reconnect. If the person must ask to enter it, the promise is resolved at once and
   * `snapshot.meeting.asked` has the ask; after another outcome than admitted, join again to ask again.
   */
  join(room: string): Promise<void> {
    if (!this.#rooms.includes(room)) this.#rooms.push(room);
    this.#undrop((d) => d.room === room && !d.watch);
    this.#meeting(without(this.#snapshot.meeting, room));
    const joined = this.#ask({ type: "join", room, ...this.#options.following }).then(({ ask }) => {
      if (ask) this.#meeting(asking(this.#snapshot.meeting, ask));
    });
    return this.#noting({ room }, joined);
  }

  /** Leaves a room. */
  leave(room: string): Promise<void> {
    this.#rooms = this.#rooms.filter((r) => r !== room);
    this.#doing.delete(room);
    this.#forget(room);
    this.#meeting(without(this.#snapshot.meeting, room));
    return this.#tell({ type: "leave", room });
  }

  /** Follows the rooms of a name or pattern without being in them. */
  watch(room: string, detail: Detail, following: Following = {}): Promise<void> {
    const watch = { ...following, room, detail };
    this.#watches = [...this.#watches.filter((w) => w.room !== room), watch];
    this.#undrop((d) => d.room === room && d.watch === true);
    return this.#noting({ room, watch: true }, this.#tell({ type: "watch", ...watch }));
  }

  /** Stops following. */
  unwatch(room: string): Promise<void> {
    this.#watches = this.#watches.filter((w) => w.room !== room);
    this.#forget(room);
    return this.#tell({ type: "unwatch", room });
  }

  /** Follows people: their status, and when they were last seen. */
  watchPeople(people: readonly string[]): Promise<void> {
    this.#people = [...new Set([...this.#people, ...people])];
    return this.#tell({ type: "watch", people });
  }

  /** Stops following people. */
  unwatchPeople(people: readonly string[]): Promise<void> {
    this.#people = this.#people.filter((user) => !people.includes(user));
    const left = new Map([...this.#snapshot.people].filter(([user]) => !people.includes(user)));
    this.#update({ ...this.#snapshot, people: left });
    return this.#tell({ type: "unwatch", people });
  }

  /** Returns a page of a large room: after a user and at a revision, or the first page at a recent revision. */
  members(room: string, from: { rev?: string; after?: string; limit?: number } = {}): Promise<Page> {
    return this.#ask({ type: "members", room, ...from }) as Promise<unknown> as Promise<Page>;
  }

  /** Gives a cue. Resolves to the number of links that it went to. */
  async cue(to: Addressee, name: string, data?: unknown): Promise<number> {
    return (await this.#ask({ type: "cue", ...to, name, data })).links ?? 0;
  }

  /** Sets the person's status for all their sessions, or a note alone. Without both it clears what is set. */
  setStatus(status?: "busy" | "away", note?: string, until?: Date, more: StatusMore = {}): Promise<void> {
    const { label, thisSession } = more;
    return this.#tell({
      type: "status",
      status: status ?? "",
      note,
      until,
      label,
      this_session: thisSession,
    });
  }

  /**
   * Says what the person is doing in a room: an object of your own, or null for nothing. It is said again after a
   * reconnect. Others get at most one change per `doing.every` of the room's policy, and always the last.
   */
  doing(room: string, data: Doing | null): Promise<void> {
    const doing = { data: data ?? {}, told: false };
    this.#doing.set(room, doing);
    return this.#tellDoing(room, doing);
  }

  #tellDoing(room: string, doing: { readonly data: Doing; told: boolean }): Promise<void> {
    const told = this.#ask({ type: "doing", room, data: doing.data }).then(() => {
      doing.told = true;
    });
    told.catch(() => {});
    return told;
  }

  /** Lets somebody in who asks. The token must grant it, and this session must be in the room. */
  admit(ask: string): Promise<void> {
    return this.#tell({ type: "admit", ask });
  }

  /** Lets in everybody who asks about a room. `waiting` is how many still ask, because the room is full or they are engaged. */
  async admitAll(room: string): Promise<{ readonly admitted: number; readonly waiting: number }> {
    const { admitted = 0, not_admitted: waiting = 0 } = await this.#ask({ type: "admit", room, all: true });
    return { admitted, waiting };
  }

  /** Refuses somebody who asks. */
  refuse(ask: string): Promise<void> {
    return this.#tell({ type: "refuse", ask });
  }

  /** Invites a person into a room. Resolves to the id of the invitation. */
  async invite(user: string, room: string): Promise<string> {
    return (await this.#ask({ type: "invite", user, room })).invitation ?? "";
  }

  /** Accepts an invitation, and joins its room. Resolves to the room. */
  async accept(invitation: string): Promise<string> {
    const { joined = "" } = await this.#ask({ type: "accept", invitation });
    if (joined && !this.#rooms.includes(joined)) this.#rooms.push(joined);
    return joined;
  }

  /** Declines an invitation. */
  decline(invitation: string): Promise<void> {
    return this.#tell({ type: "decline", invitation });
  }

  /** Withdraws an invitation that the person sent. */
  withdraw(invitation: string): Promise<void> {
    return this.#tell({ type: "withdraw", invitation });
  }

  /** Reports that the person is typing in a room, or has stopped. A Composer does this at the right times. */
  typing(room: string, on: boolean): Promise<void> {
    return this.#tell({ type: "typing", room, on });
  }

  /** Reports that the text was sent. */
  sent(room: string): Promise<void> {
    return this.#tell({ type: "sent", room });
  }

  /** Hides the person from others, or ends that. The token must grant it. */
  hide(on = true): Promise<void> {
    return this.#tell({ type: "hide", on });
  }

  /** Removes somebody from a room. The token must grant it. */
  remove(user: string, room: string): Promise<void> {
    return this.#tell({ type: "remove", user, room });
  }

  /**
   * Sends a newer token of the same person, for example after its grants changed. Refused rooms are requested again.
   * If no token is given and the link's token is a function, it fetches one.
   */
  async renew(token?: string): Promise<void> {
    const { token: source } = this.#options;
    const text = token ?? (typeof source === "function" ? await source() : source);
    await this.#ask({ type: "renew", token: text });
    for (const { room, watch } of this.#snapshot.dropped) {
      if (room && !watch && this.#rooms.includes(room)) quietly(this.join(room));
      const watched = this.#watches.find((w) => w.room === room);
      if (room && watch && watched) quietly(this.watch(room, watched.detail, watched));
    }
  }

  /** Reports human input, now or some milliseconds ago. */
  activity(idleFor = 0): Promise<void> {
    return this.#tell({ type: "activity", idle_for: Math.round(idleFor) });
  }

  /** Reports that nobody is there. */
  idle(): Promise<void> {
    return this.#tell({ type: "idle" });
  }

  /** Reports whether the page is hidden. Browsers slow the timers of hidden pages. */
  pageHidden(hidden: boolean): Promise<void> {
    return this.#tell({ type: "page", page_hidden: hidden });
  }

  /** Ends the session now, and closes the link. */
  bye(): void {
    void this.#tell({ type: "bye" });
    this.#options.memory?.save(undefined);
    this.#end({ word: "closed", reason: "bye" });
  }

  /** Ends all sessions of the person now, and closes the link. */
  async signOut(): Promise<void> {
    await this.#ask({ type: "sign-out" }); // the service then closes all their links
  }

  /** Closes the link. The session stays for its grace. */
  close(): void {
    this.#end({ word: "closed" });
  }

  /** Drops the connection without notice, like a pulled cable, and reconnects after a while. */
  drop(ms: number): void {
    this.#lose("the cable was pulled", ms);
  }

  /** Connects again after a close or a refusal, or when there is no link. */
  retry(): void {
    if (["lost", "closed", "refused"].includes(this.#snapshot.state.word)) this.#connect();
  }

  /**
   * Checks the link when the network or the page comes back: reconnects at once, or asks the service for an answer on
   * a link that may be dead.
   */
  check(): void {
    if (this.#snapshot.state.word === "lost") this.#connect();
    if (this.#snapshot.state.word !== "open") return;
    const socket = this.#socket;
    const stop = this.#around.after(checkWait, () => {
      if (this.#socket === socket) this.#lose("the service did not answer");
    });
    this.#ask({ type: "beat" }).then(stop, stop);
  }

  #connect(): void {
    this.#stopTimer();
    this.#detach(); // an attempt that is still under way gives way to this one
    const { server, token } = this.#options;
    const url = this.#over === "websocket" ? `${server.replace(/^http/, "ws")}/v1/link` : server;
    const socket = this.#around.connect(url, this.#over);
    this.#socket = socket;
    this.#stopTimer = this.#around.after(helloWait, () => this.#lose("nobody answered the hello"));
    socket.onopen = () => {
      if (typeof token !== "function") this.#hello(socket, token);
      else this.#fresh(token, socket, (text) => this.#hello(socket, text));
    };
    socket.onmessage = (event) => {
      if (this.#socket === socket) this.#receive(JSON.parse(String(event.data)) as Frame);
    };
    socket.onclose = (event) => {
      if (this.#socket !== socket) return;
      if (event.code === ended) {
        this.#options.memory?.save(undefined);
        this.#end({ word: "closed", reason: event.reason === "bye" ? "signed out" : event.reason });
        return;
      }
      const wait = this.#moving; // a service that restarts says when it wants whom back
      this.#moving = undefined;
      this.#lose(event.reason || `the connection closed (${event.code})`, wait);
    };
  }

  /** Fetches a token for a connection. If that fails, it is tried again later. */
  async #fresh(
    fetch: () => string | Promise<string>,
    socket: Socket,
    use: (token: string) => void,
  ): Promise<void> {
    try {
      const token = await fetch();
      if (this.#socket === socket) use(token);
    } catch (error) {
      if (this.#socket === socket) this.#lose(`no token: ${error instanceof Error ? error.message : error}`);
    }
  }

  #hello(socket: Socket, token: string | undefined): void {
    if (this.#socket !== socket) return;
    const { key, nonce, memory } = this.#options;
    const people = this.#people.length > 0 ? [{ people: this.#people }] : [];
    const revs = Object.fromEntries([...this.#snapshot.rooms].map(([name, room]) => [name, room.rev]));
    const hello = { type: "hello", id: this.#requests.newID(), version, token, key, nonce, one_by_one: true };
    const follow = { watch: [...this.#watches, ...people], revs };
    const page = this.#options.page?.();
    this.#toldPageHidden = page?.page_hidden;
    const { device, following, noInput: no_input } = this.#options;
    const own = { resume: memory?.load(), ...page, rooms: this.#rooms, device, no_input, ...following };
    const takesPart = token && !this.#options.watchOnly;
    const watch_only = this.#options.watchOnly;
    socket.send(JSON.stringify({ ...hello, watch_only, ...(takesPart ? own : {}), ...follow }));
  }

  #receive(frame: Frame): void {
    this.#expectMore();
    switch (frame.type) {
      case "beat":
        this.#socket?.send('{"type":"beat"}');
        return;
      case "answer":
        if (frame.timings) this.#greeted(frame as Opened);
        else this.#requests.answered(frame);
        return;
      case "error":
        this.#requests.refused(frame);
        this.#refused(frame);
        return;
      case "still":
        return;
      case "own": {
        const { type: _, ...own } = frame;
        this.#update({ ...this.#snapshot, own });
        return;
      }
      case "dropped": {
        const { type: _, ...drop } = frame;
        this.#drop(drop);
        return;
      }
      case "ask":
        if (frame.outcome !== "admitted") this.#rooms = this.#rooms.filter((r) => r !== frame.room);
        this.#meeting(meet(this.#snapshot.meeting, frame));
        return;
      case "invitation":
        this.#meeting(meet(this.#snapshot.meeting, frame));
        for (const listener of this.#invitationListeners) listener(frame);
        return;
      case "asks":
      case "invitations":
        this.#meeting(meet(this.#snapshot.meeting, frame));
        return;
      case "person":
        this.#update({ ...this.#snapshot, people: new Map(this.#snapshot.people).set(frame.user, frame) });
        return;
      case "cue":
        for (const listener of this.#cueListeners) listener(frame);
        return;
      case "expiring":
        if (typeof this.#options.token === "function") quietly(this.renew());
        return;
      case "moving":
        this.#moving = frame.after;
        return;
      case "snapshot":
      case "changes":
      case "count":
      case "typing":
        this.#apply(frame);
    }
  }

  #greeted(opened: Opened): void {
    this.#attempts = 0;
    if (opened.session && opened.resume_key) {
      this.#options.memory?.save({ session: opened.session, resume_key: opened.resume_key });
    }
    this.#triedFresh = false;
    this.#closedDoors = 0;
    this.#worked = this.#over;
    this.#upgradingFrom = undefined;
    if (this.#over === "websocket") this.#probeWait = firstProbe;
    this.#probe();
    // What was known goes on from there; a room that is not followed any more is not in the answer.
    const rooms = new Map([...this.#snapshot.rooms].filter(([room]) => opened.revs?.[room]));
    const { own = { hiding: false }, dropped = [] } = opened;
    const state: State = { word: "open", over: this.#over };
    const meeting = opening(this.#snapshot.meeting, opened);
    this.#update({ state, opened, rooms, people: this.#snapshot.people, own, dropped: [], meeting });
    for (const [room, doing] of this.#doing) {
      if (!opened.resumed || !doing.told) quietly(this.#tellDoing(room, doing));
    }
    for (const drop of dropped) this.#drop(drop);
    this.#expectMore();
    const hidden = this.#options.page?.().page_hidden;
    if (opened.session && hidden !== undefined && hidden !== this.#toldPageHidden) this.pageHidden(hidden);
  }

  /** Notes a room, watch or person that is not delivered, and continues with the others. */
  #drop(drop: Drop): void {
    const others = this.#snapshot.dropped.filter(
      (d) => d.room !== drop.room || d.user !== drop.user || d.watch !== drop.watch,
    );
    const rooms = new Map(this.#snapshot.rooms);
    if (drop.room && this.#named(drop.room)) {
      const { room, user, watch, ...problem } = drop;
      rooms.set(drop.room, refusedRoom(drop.room, problem));
    }
    const people = new Map(this.#snapshot.people);
    if (drop.user) people.delete(drop.user);
    this.#update({ ...this.#snapshot, rooms, people, dropped: [...others, drop] });
  }

  #undrop(which: (drop: Drop) => boolean): void {
    const dropped = this.#snapshot.dropped.filter((d) => !which(d));
    if (dropped.length === this.#snapshot.dropped.length) return;
    const rooms = new Map(
      [...this.#snapshot.rooms].filter(
        ([name, room]) => !room.problem || !which({ ...room.problem, room: name }),
      ),
    );
    this.#update({ ...this.#snapshot, dropped, rooms });
  }

  /** Notes that a request for a room was refused. */
  #noting(what: Pick<Drop, "room" | "watch">, told: Promise<void>): Promise<void> {
    told.catch((why) => {
      if (why instanceof Refused && !local.has(why.code)) this.#drop({ ...what, ...why.problem });
    });
    return told;
  }

  /**
   * A problem before the answer to the hello is final, because the same hello would be refused again; if it would
   * not, the hello is repeated after a while. A new token is fetched once.
   */
  #refused(problem: Problem): void {
    if (this.#snapshot.state.word === "open") {
      this.#update({ ...this.#snapshot, problem });
      return;
    }
    if (passing.has(problem.code)) {
      this.#lose(problem.detail);
      return;
    }
    const stale = problem.code === "expired-token" || problem.code === "bad-token";
    if (stale && typeof this.#options.token === "function" && !this.#triedFresh) {
      this.#triedFresh = true;
      this.#connect();
      return;
    }
    this.#end({ word: "refused", reason: problem.detail }, problem);
    if (typeof this.#options.token === "function" && ofToken.has(problem.code)) {
      // A token that is minted later may be taken.
      const most = Math.min(this.#options.longestWait ?? longestWait, 1000 * 2 ** this.#attempts++);
      this.#stopTimer = this.#around.after(most * (0.5 + this.#around.random() / 2), () => {
        this.#triedFresh = false;
        this.#connect();
      });
    }
  }

  #apply(frame: RoomFrame): void {
    const isNew = frame.type === "snapshot" && !this.#named(frame.room);
    const known = this.#snapshot.rooms.get(frame.room) ?? (isNew ? begun(frame.room) : undefined);
    let applied: [Room, Change];
    try {
      applied = apply(known, frame);
    } catch (gap) {
      this.#lose(String(gap)); // the next link says what this one has, and gets what is missing
      return;
    }
    const [room, change] = applied;
    const rooms = new Map(this.#snapshot.rooms);
    if (room.count.people > 0 || this.#named(room.room)) rooms.set(room.room, room);
    else rooms.delete(room.room);
    this.#update({ ...this.#snapshot, rooms });
    if (change.joined.length + change.changed.length + change.doing.length + change.left.length > 0) {
      for (const listener of this.#changeListeners) listener(change);
    }
  }

  #meeting(meeting: Meeting): void {
    if (meeting !== this.#snapshot.meeting) this.#update({ ...this.#snapshot, meeting });
  }

  #named(room: string): boolean {
    return this.#rooms.includes(room) || this.#watches.some((w) => w.room === room);
  }

  #forget(room: string): void {
    const rooms = new Map(this.#snapshot.rooms);
    if (rooms.delete(room)) this.#update({ ...this.#snapshot, rooms });
  }

  /** The service asks for a beat when it hears nothing. If even that stops, the link is dead. */
  #expectMore(): void {
    this.#stopTimer();
    const silence = this.#snapshot.opened?.timings.silence;
    if (silence) this.#stopTimer = this.#around.after(silence, () => this.#lose("the service fell silent"));
  }

  #lose(reason: string, wait?: number): void {
    const reached = this.#socket?.reached ?? false;
    this.#detach();
    const told = wait !== undefined && !this.#upgradingFrom; // who says when to come back can be reached this way
    if (this.#snapshot.state.word !== "open" && !told) this.#tryOther(reached);
    this.#update({ ...this.#snapshot, state: { word: "lost", reason } });
    const most = Math.min(this.#options.longestWait ?? longestWait, 500 * 2 ** this.#attempts);
    const next = wait ?? (this.#attempts === 0 ? 0 : most * (0.5 + this.#around.random() / 2));
    this.#attempts++;
    this.#stopTimer();
    if (next === 0) this.#connect();
    else this.#stopTimer = this.#around.after(next, () => this.#connect());
  }

  /**
   * Changes the kind of link after some failed attempts in a row: a few if this kind has never worked, more if it
   * has, because then the service is probably down. If the service is reached but event streams do not pass, HTTP
   * beats are next. If the service cannot be reached at all, it is down, and WebSockets are tried again.
   */
  #tryOther(reached: boolean): void {
    if (this.#around.webSocketOnly) return;
    if (this.#upgradingFrom) {
      // the better way does not work yet
      this.#over = this.#upgradingFrom;
      this.#upgradingFrom = undefined;
      return;
    }
    this.#closedDoors++;
    if (
      this.#closedDoors <
      (this.#over === this.#worked ? triesOfWorked : this.#over === "websocket" ? triesOfUnknown : 1)
    )
      return;
    this.#closedDoors = 0;
    if (this.#over === "websocket") this.#over = "stream";
    else this.#over = this.#over === "stream" && reached ? "beats" : "websocket";
  }

  /** While another kind is in use, tries whether a WebSocket works now, and changes to it. */
  #probe(): void {
    this.#stopProbe();
    if (this.#over === "websocket") return;
    this.#stopProbe = this.#around.after(this.#probeWait, () => {
      if (this.#snapshot.state.word !== "open") return;
      this.#probeWait = Math.min(2 * this.#probeWait, longestProbe);
      const probe = this.#around.connect(
        `${this.#options.server.replace(/^http/, "ws")}/v1/link`,
        "websocket",
      );
      const stop = this.#around.after(helloWait, () => probe.close());
      probe.onclose = () => {
        stop();
        if (this.#snapshot.state.word === "open") this.#probe();
      };
      probe.onopen = () => {
        stop();
        probe.onclose = null;
        probe.close();
        if (this.#snapshot.state.word !== "open" || this.#over === "websocket") return;
        this.#upgradingFrom = this.#over;
        this.#over = "websocket";
        this.#update({ ...this.#snapshot, state: { word: "connecting", reason: "a WebSocket passes now" } });
        this.#connect(); // the same page takes its session over at once
      };
    });
  }

  #end(state: State, problem?: Problem): void {
    this.#stopTimer();
    this.#stopProbe();
    this.#detach();
    this.#update({ ...this.#snapshot, state, ...(problem ? { problem } : {}) });
  }

  #detach(): void {
    const socket = this.#socket;
    this.#socket = undefined;
    socket?.close();
    this.#requests.fail();
  }

  #tell(frame: object): Promise<void> {
    const told = this.#ask(frame).then(() => {});
    told.catch(() => {});
    return told;
  }

  /**
   * Sends a request. Without a link nothing is sent: the next hello says what is wanted, and other requests fail.
   * Callers may ignore the promise.
   */
  #ask(frame: object): Promise<Answer> {
    return this.#requests.send(frame, this.#snapshot.state.word === "open" ? this.#socket : undefined);
  }

  #update(snapshot: Snapshot): void {
    this.#snapshot = snapshot;
    for (const listener of this.#listeners) listener();
  }
}

/** Ignores the outcome of a promise. */
function quietly(told: Promise<void>): void {
  told.catch(() => {});
}

/** Returns the URL of a service without a slash at its end. */
function addressOf(server: string): string {
  if (!/^https?:\/\/[^/]/.test(server)) {
    throw new TypeError(
      `server is "${server}"; allowed: an address with http:// or https://, as in https://presence.example`,
    );
  }
  return server.replace(/\/+$/, "");
}
