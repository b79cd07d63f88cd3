import type { Room } from "./replica";

/** The part of a Link that reports typing. */
export interface Reporter {
  readonly snapshot: { readonly opened?: { readonly timings: { readonly typing_expires: number } } };
  typing(room: string, on: boolean): Promise<void>;
  sent(room: string): Promise<void>;
}

/** A timer. Returns a function that cancels it. */
export type After = (ms: number, run: () => void) => () => void;

const later: After = (ms, run) => {
  const timer = setTimeout(run, ms);
  return () => clearTimeout(timer);
};

/**
 * Reports that the person is typing in a room: from the first change that leaves text, for as long as the text keeps
 * changing. Reports are renewed in time, so that others see one start; a draft that is left alone ends by itself.
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

  /** The text has changed to this. */
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

  /** The text was sent. */
  sent(): void {
    this.#text = "";
    this.#end(() => this.#link.sent(this.#room));
  }

  /** The person has stopped, for example because the field was emptied or removed. */
  stopped(): void {
    this.#end(() => this.#link.typing(this.#room, false));
  }

  /** The person is doing something else: changes that were not reported yet are not reported, and typing expires. */
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

/** Forgets what is no longer true when the link returns. */
function quietly(told: Promise<void>): void {
  told.catch(() => {});
}

/** Reports typing in an input or textarea. Returns the composer, and a function that stops it. */
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

/** A sentence about who is typing in a room; empty if nobody is. Without leaves somebody out, usually oneself. */
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
