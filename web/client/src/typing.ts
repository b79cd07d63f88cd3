import type { Room } from "./replica";

/** What a composer tells of somebody who writes: a Link. */
export interface Reporter {
  readonly snapshot: { readonly opened?: { readonly timings: { readonly typing_expires: number } } };
  typing(room: string, on: boolean): Promise<void>;
  sent(room: string): Promise<void>;
}

/** A clock that calls back later. Returns what undoes it. */
export type After = (ms: number, run: () => void) => () => void;

const later: After = (ms, run) => {
  const timer = setTimeout(run, ms);
  return () => clearTimeout(timer);
};

/**
 * Tells that the person composes in a room: from when there is text and it changes, for as long as it goes on
 * changing. It is renewed in time, so that others see one start; a draft that is left alone ends by itself.
 */
export class Composer {
  readonly #link: Reporter;
  readonly #room: string;
  readonly #after: After;
  #stop: (() => void) | undefined;
  #stopIdle: () => void = () => {};
  #text = "";
  #changed = false;
  #typing = false;

  constructor(link: Reporter, room: string, after: After = later) {
    this.#link = link;
    this.#room = room;
    this.#after = after;
  }

  /** The text is now this. */
  changed(text: string): void {
    if (text === this.#text) return;
    this.#text = text;
    if (text.trim() === "") {
      this.stopped();
      return;
    }
    this.#stopIdle();
    if (!this.#stop) {
      this.#report();
      return;
    }
    // This is reported later, and typing expires so long after that; it is to end so long after the change.
    this.#changed = true;
    this.#stopIdle = this.#after(this.#expires, () => this.stopped());
  }

  get #expires(): number {
    return this.#link.snapshot.opened?.timings.typing_expires ?? 6000;
  }

  /** What was composed has been sent. */
  sent(): void {
    this.#text = "";
    this.#end(() => this.#link.sent(this.#room));
  }

  /** The person has stopped, as when the field was emptied or is gone. */
  stopped(): void {
    this.#end(() => this.#link.typing(this.#room, false));
  }

  /** The person has gone to something else: what they wrote last is not reported any more, and typing expires. */
  left(): void {
    this.#changed = false;
  }

  #report(): void {
    this.#changed = false;
    quietly(this.#link.typing(this.#room, true));
    this.#typing = true;
    this.#stop = this.#after(this.#expires / 2, () => {
      this.#stop = undefined;
      if (this.#changed) this.#report(); // else it expires at the service
    });
  }

  #end(tell: () => Promise<void>): void {
    this.#stopIdle();
    this.#stop?.();
    this.#stop = undefined;
    if (!this.#typing) return;
    this.#typing = false;
    quietly(tell());
  }
}

/** Lets nobody be told of what is over when the link comes back. */
function quietly(told: Promise<void>): void {
  told.catch(() => {});
}

/** Reports what is composed in an input or textarea. Returns the composer, and what undoes it. */
export function composeIn(
  link: Reporter,
  room: string,
  field: HTMLInputElement | HTMLTextAreaElement,
): { composer: Composer; close: () => void } {
  const composer = new Composer(link, room);
  const changed = () => composer.changed(field.value);
  const left = () => composer.left();
  field.addEventListener("input", changed);
  field.addEventListener("blur", left);
  return {
    composer,
    close() {
      field.removeEventListener("input", changed);
      field.removeEventListener("blur", left);
      composer.stopped();
    },
  };
}

/** Who types in a room, as a sentence; empty when nobody does. Without is somebody to leave out: oneself. */
export function typingSentence(room: Room | undefined, without?: string): string {
  const names = (room?.typing ?? [])
    .filter((user) => user !== without)
    .map((user) => room?.members?.get(user)?.name ?? user);
  const [first, second, third] = names;
  switch (names.length) {
    case 0:
      return "";
    case 1:
      return `${first} is typing`;
    case 2:
      return `${first} and ${second} are typing`;
    case 3:
      return `${first}, ${second} and ${third} are typing`;
  }
  return `${first}, ${second} and ${names.length - 2} others are typing`;
}
