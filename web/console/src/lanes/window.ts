import { useState } from "react";
import { useNow } from "../live";

/** The visible period, in milliseconds since 1970. */
export interface Window {
  readonly from: number;
  readonly to: number;
  /** It moves with the current time. */
  readonly follows: boolean;
}

/** The actions of a window. */
export interface WindowControls {
  readonly window: Window;
  readonly now: number;
  /** Shows a number of milliseconds up to now. */
  last(ms: number): void;
  /** Zooms around a time; 0.5 halves the length. */
  zoom(factor: number, around?: number): void;
  /** Moves by a part of its length. */
  pan(part: number): void;
}

const shortest = 5000;
const longest = 8 * 86_400_000;
/** The part of the window after the current time. */
const margin = 0.02;

/** A window that follows the current time or, with a moment, is around it. */
export function useTimeWindow(length: number, moment?: number): WindowControls {
  const now = useNow();
  const [view, setView] = useState<{ length: number; end?: number | undefined }>(() =>
    moment === undefined ? { length } : { length, end: moment + length / 2 },
  );
  const end = view.end ?? now + view.length * margin;
  const window: Window = { from: end - view.length, to: end, follows: view.end === undefined };
  const show = (length: number, end: number) => {
    const bounded = Math.min(longest, Math.max(shortest, length));
    const latest = Date.now() + bounded * margin;
    setView(end >= latest ? { length: bounded } : { length: bounded, end });
  };
  return {
    window,
    now,
    last: (length) => setView({ length }),
    zoom(factor, around = window.follows ? window.to : (window.from + window.to) / 2) {
      show(view.length * factor, around + (window.to - around) * factor);
    },
    pan: (part) => show(view.length, end + part * view.length),
  };
}
