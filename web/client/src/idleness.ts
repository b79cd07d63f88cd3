import type { After } from "./typing";

/** What is told of somebody at a page: a Link. */
export interface Audience {
  readonly snapshot: {
    readonly state: { readonly word: string };
    readonly opened?:
      | { readonly timings: { readonly activity_every: number; readonly idle_after: number } }
      | undefined;
  };
  activity(idleFor?: number): Promise<void>;
  idle(): Promise<void>;
}

/**
 * Knows since when nobody has done anything at a page, and tells of activity: at once when it begins, and then
 * at most each `activity_every`, with the time since it was.
 */
export class Idleness {
  readonly #link: Audience;
  readonly #now: () => number;
  readonly #after: After;
  #last: number;
  #told = Number.NEGATIVE_INFINITY;
  #gone = false;
  #stop: (() => void) | undefined;

  /** Last is when somebody last did something, in milliseconds as of now. */
  constructor(link: Audience, now: () => number, after: After, last: number) {
    this.#link = link;
    this.#now = now;
    this.#after = after;
    this.#last = last;
  }

  /** When somebody last did something. */
  get last(): number {
    return this.#last;
  }

  /** For how long nobody has done anything, as a hello says it; of who is gone, long enough to be idle. */
  get idleFor(): number {
    const since = Math.max(0, this.#now() - this.#last);
    return this.#gone ? Math.max(since, this.#link.snapshot.opened?.timings.idle_after ?? 0) : since;
  }

  /** Somebody has done something, now or at a moment that another page of theirs knows of. */
  active(at: number = this.#now()): void {
    if (at <= this.#last && this.#told > Number.NEGATIVE_INFINITY) return;
    this.#last = Math.max(this.#last, at);
    this.#gone = false;
    if (this.#stop) return; // it is told when its time has come
    const wait = this.#told + this.#every() - this.#now();
    if (wait <= 0) this.#tell();
    else this.#later(wait);
  }

  /** There is nobody now, as when the screen is locked. The next activity is told at once. */
  gone(): void {
    this.close();
    this.#told = Number.NEGATIVE_INFINITY;
    this.#gone = true;
    this.#link.idle();
  }

  /** Tells nothing any more of what has been. */
  close(): void {
    this.#stop?.();
    this.#stop = undefined;
  }

  /** Where idleness comes soon, activity has to be told sooner. */
  #every(): number {
    const timings = this.#link.snapshot.opened?.timings;
    return timings ? Math.min(timings.activity_every, timings.idle_after / 2) : 20_000;
  }

  #later(wait: number): void {
    this.#stop = this.#after(wait, () => {
      this.#stop = undefined;
      this.#tell();
    });
  }

  /** What cannot be told now, the next hello says. */
  #tell(): void {
    if (this.#link.snapshot.state.word !== "open") return;
    this.#told = this.#now();
    this.#link.activity(this.#told - this.#last);
  }
}
