import type { After } from "./typing";

/** The part of a Link that reports activity. */
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
 * Knows the time of the last human input at a page, and reports activity: the first at once, and then at most once
 * every `activity_every`, with the time since the input.
 */
export class Idleness {
  readonly #link: Audience;
  readonly #now: () => number;
  readonly #after: After;
  #last: number;
  #told = Number.NEGATIVE_INFINITY;
  #gone = false;
  #stop: (() => void) | undefined;

  /** Last is the time of the last input, in milliseconds. */
  constructor(link: Audience, now: () => number, after: After, last: number) {
    this.#link = link;
    this.#now = now;
    this.#after = after;
    this.#last = last;
  }

  /** The time of the last input. */
  get last(): number {
    return this.#last;
  }

  /** The time since the last input, for a hello. After a report of idleness it is long enough to be idle. */
  get idleFor(): number {
    const since = Math.max(0, this.#now() - this.#last);
    return this.#gone ? Math.max(since, this.#link.snapshot.opened?.timings.idle_after ?? 0) : since;
  }

  /** There was input, now or at a time that another page of the person knows. */
  active(at: number = this.#now()): void {
    if (at <= this.#last && this.#told > Number.NEGATIVE_INFINITY) return;
    this.#last = Math.max(this.#last, at);
    this.#gone = false;
    if (this.#stop) return; // it is told when its time has come
    const wait = this.#told + this.#every() - this.#now();
    if (wait <= 0) this.#tell();
    else this.#later(wait);
  }

  /** Nobody is there, for example because the screen is locked. The next activity is reported at once. */
  gone(): void {
    this.close();
    this.#told = Number.NEGATIVE_INFINITY;
    this.#gone = true;
    this.#link.idle();
  }

  /** Stops reporting. */
  close(): void {
    this.#stop?.();
    this.#stop = undefined;
  }

  /** If the policy makes people idle soon, activity has to be reported sooner. */
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

  /** What cannot be reported now is part of the next hello. */
  #tell(): void {
    if (this.#link.snapshot.state.word !== "open") return;
    this.#told = this.#now();
    this.#link.activity(this.#told - this.#last);
  }
}
