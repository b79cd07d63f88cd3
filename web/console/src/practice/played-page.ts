import type { Browser, Happening } from "@client/browser";
import { type Kept, type Link, unopened } from "@client/link";
import { page, type Surroundings } from "@client/surroundings";
import { openTab, type Tab } from "@client/tab";
import type { Over, Socket } from "@client/transports";
import { Composer } from "@client/typing";
import type { Shape } from "../api";

/** A simulated person. */
export type Player = Shape<"Player">;

export type Kind = "tab" | "phone";

/** The state of a page. */
export type Phase = "open" | "reloading" | "closed" | "crashed";

/** The session as the service knows it: GET /v1/sessions/{id}. */
export type Known = Shape<"Session">;

const reloadTime = 400;

/**
 * A tab or a phone of a simulated person, as a browser in which the library runs. The events that a real browser
 * would report come from the user of Practice. Everything else is real: the link, the session, the timings.
 */
export class PlayedPage implements Browser {
  readonly #listeners = new Set<() => void>();
  readonly #happenings = new Map<Happening, Set<() => void>>();
  readonly #kept: Map<string, string>;
  readonly #late: (() => void)[] = [];
  readonly #wires = new Set<Wire>();
  #tab: Tab | undefined;
  #rooms: readonly string[] = [];
  #visible = true;
  #frozen = false;
  #cableOut = false;
  #stopLooking = () => {};

  phase: Phase = "closed";
  walkedAway = false;
  known: Known | "ended" | undefined;
  composer: Composer | undefined;
  /** Called when the session has returned within its grace. */
  returned = () => {};
  /** A number that grows with each change. */
  version = 0;

  constructor(
    readonly player: Player,
    readonly kind: Kind,
    readonly number: number,
    readonly room: string,
    /** The other rooms of the practice: one that asks, and one that engages. */
    readonly places: { readonly gate: string; readonly call: string },
    private readonly server: string,
    private readonly browserOf: (played: PlayedPage) => readonly PlayedPage[],
    kept: ReadonlyMap<string, string> = new Map(),
  ) {
    this.#kept = new Map(kept);
  }

  get link(): Link | undefined {
    return this.#tab?.link;
  }

  get frozen(): boolean {
    return this.#frozen;
  }

  get cableOut(): boolean {
    return this.#cableOut;
  }

  /** The storage that a duplicated tab starts with. */
  get kept(): ReadonlyMap<string, string> {
    return this.#kept;
  }

  subscribe(listener: () => void): () => void {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  }

  // Actions.

  open(): void {
    this.phase = "open";
    this.walkedAway = false;
    const { token } = this.player;
    const tab = openTab(
      {
        server: this.server,
        token,
        rooms: [this.room, ...this.#rooms],
        lock: this.kind === "phone",
        device: this.kind === "phone" ? "phone" : "desktop",
        surroundings: this.#surroundings,
      },
      this,
    );
    this.#tab = tab;
    this.composer = new Composer(tab.link, this.room, (ms, run) => this.after(ms, run));
    let state = "";
    tab.link.subscribe(() => {
      if (tab.link.snapshot.state.word !== state) this.look();
      state = tab.link.snapshot.state.word;
      this.#changed();
    });
    this.#changed();
  }

  /** The next page wants the rooms of this one: an application knows them from its address. */
  reload(): void {
    this.#rooms = this.#besides();
    this.happens("hide");
    this.#unload("reloading");
    setTimeout(() => this.phase === "reloading" && this.open(), reloadTime);
  }

  /** The gate and the call, if the page is in them or asks to be. */
  #besides(): readonly string[] {
    const { rooms, meeting, opened } = this.link?.snapshot ?? unopened;
    return [this.places.gate, this.places.call].filter((room) => {
      const ask = meeting.asked.get(room);
      return rooms.get(room)?.members?.has(opened?.user ?? "") || (ask && !ask.outcome);
    });
  }

  close(): void {
    this.happens("hide");
    this.#unload("closed");
  }

  /** Ends without notice, as with an empty battery. */
  crash(): void {
    for (const wire of this.#wires) wire.cut();
    this.#unload("crashed");
  }

  /** Starts again with empty storage. */
  start(): void {
    this.#kept.clear();
    this.#rooms = [];
    this.known = undefined;
    this.open();
  }

  pullCable(): void {
    this.#cableOut = true;
    for (const wire of this.#wires) wire.cut();
    this.look();
    this.#changed();
  }

  plugCable(): void {
    this.#cableOut = false;
    this.happens("online");
    this.#changed();
  }

  setVisible(visible: boolean): void {
    this.#visible = visible;
    this.happens("visibility");
    this.look();
    this.#changed();
  }

  /** A locked phone freezes its pages: incoming data is not read, and no timer runs. */
  setFrozen(frozen: boolean): void {
    if (frozen) {
      this.happens("lock");
      this.setVisible(false);
    }
    this.#frozen = frozen;
    if (!frozen) {
      for (const run of this.#late.splice(0)) run();
      this.happens("thaw");
      this.setVisible(true);
    }
    this.look();
    this.#changed();
  }

  walkAway(): void {
    this.walkedAway = true;
    void this.link?.idle();
    this.look();
    this.#changed();
  }

  /** Human input at the page. */
  touch(): void {
    if (this.phase !== "open" || this.#frozen || this.walkedAway) return;
    this.happens("input");
  }

  comeBack(): void {
    this.walkedAway = false;
    void this.link?.activity();
    this.look();
    this.#changed();
  }

  /** Closes the page. */
  dispose(): void {
    this.#stopLooking();
    this.#unload("closed");
  }

  /** Requests the state of the session, now and again when the next thing is due. */
  look(wait = 150): void {
    this.#stopLooking();
    const timer = setTimeout(() => void this.#look(), wait);
    this.#stopLooking = () => clearTimeout(timer);
  }

  async #look(): Promise<void> {
    const kept: Kept | undefined = JSON.parse(this.#kept.get("tovik.session") ?? "null") ?? undefined;
    if (!kept) {
      if (this.known) this.known = "ended";
      this.#changed();
      return;
    }
    try {
      const response = await fetch(`${this.server}/v1/sessions/${kept.session}`, {
        headers: { Authorization: `Bearer ${kept.resume_key}` },
        cache: "no-store",
      });
      const before = this.known;
      const { state, ...known } = await response.json();
      const after: Known | "ended" = state === "ended" ? "ended" : { state, ...known };
      this.known = after;
      if (before && before !== "ended" && after !== "ended" && after.state === "live") {
        if (before.state === "grace" || after.link > before.link) this.returned(); // it may have been quick
      }
    } catch {
      this.look(1000); // the service is away
      return;
    }
    this.#changed();
    if (this.known !== "ended" && this.known?.next[0]) {
      this.look(Math.max(250, Date.parse(this.known.next[0].at) - Date.now() + 150));
    }
  }

  #unload(phase: Phase): void {
    this.#tab?.close();
    this.#tab = undefined;
    this.composer = undefined;
    this.#happenings.clear();
    this.#late.length = 0;
    this.#frozen = false;
    this.#visible = true;
    this.#cableOut = false;
    this.phase = phase;
    this.look();
    this.#changed();
  }

  #changed(): void {
    this.version++;
    for (const listener of this.#listeners) listener();
  }

  /** Runs something now, or when the page is no longer frozen. */
  deliver(run: () => void): void {
    if (this.#frozen) this.#late.push(run);
    else run();
  }

  // The browser that the library sees.

  readonly storage = {
    getItem: (name: string) => this.#kept.get(name) ?? null,
    setItem: (name: string, value: string) => void this.#kept.set(name, value),
    removeItem: (name: string) => void this.#kept.delete(name),
  };

  now(): number {
    return Date.now();
  }

  after(ms: number, run: () => void): () => void {
    const timer = setTimeout(() => this.deliver(run), ms);
    return () => clearTimeout(timer);
  }

  pageHidden(): boolean {
    return !this.#visible;
  }

  on(happening: Happening, run: () => void): () => void {
    const all = this.#happenings.get(happening) ?? new Set();
    this.#happenings.set(happening, all.add(run));
    return () => all.delete(run);
  }

  happens(happening: Happening): void {
    for (const run of this.#happenings.get(happening) ?? []) run();
  }

  beacon(url: string, body: string): void {
    if (!this.#cableOut) navigator.sendBeacon(url, body);
  }

  readonly #heard = new Set<(what: unknown) => void>();

  channel(heard: (what: unknown) => void): { say(what: unknown): void; close(): void } {
    this.#heard.add(heard);
    return {
      say: (what) => {
        for (const other of this.browserOf(this)) for (const hear of other.#heard) hear(what);
      },
      close: () => this.#heard.delete(heard),
    };
  }

  readonly #surroundings: Surroundings = {
    connect: (url: string, over: Over) => {
      const wire = new Wire(this, this.#cableOut ? undefined : page.connect(url, over));
      this.#wires.add(wire);
      return wire;
    },
    after: (ms, run) => this.after(ms, run),
    random: Math.random,
  };

  forget(wire: Wire): void {
    this.#wires.delete(wire);
  }
}

/** A connection of a page, which ends when its cable is pulled. */
class Wire implements Socket {
  onopen: (() => void) | null = null;
  onmessage: ((event: { data: unknown }) => void) | null = null;
  onclose: ((event: { code: number; reason: string }) => void) | null = null;
  readonly #played: PlayedPage;
  readonly #inner: Socket | undefined;

  constructor(played: PlayedPage, inner: Socket | undefined) {
    this.#played = played;
    this.#inner = inner;
    if (!inner) {
      setTimeout(() => this.#gone(1006, "there is no network"), 200);
      return;
    }
    inner.onopen = () => played.deliver(() => this.onopen?.());
    inner.onmessage = (event) => played.deliver(() => this.onmessage?.(event));
    inner.onclose = ({ code, reason }) => played.deliver(() => this.#gone(code, reason));
  }

  get reached(): boolean {
    return this.#inner?.reached ?? false;
  }

  send(text: string): void {
    this.#inner?.send(text);
  }

  close(): void {
    this.#played.forget(this);
    this.#inner?.close();
  }

  cut(): void {
    if (this.#inner) this.#inner.onclose = null;
    this.close();
    this.#played.deliver(() => this.#gone(1006, "the cable was pulled"));
  }

  #gone(code: number, reason: string): void {
    this.#played.forget(this);
    this.onclose?.({ code, reason });
  }
}
