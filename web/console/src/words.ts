import { acts, reasons } from "./service-words";

/** "1 person", "3 people". */
export function people(n: number): string {
  return n === 1 ? "1 person" : `${n} people`;
}

/** "1 session", "3 sessions". */
export function sessions(n: number): string {
  return n === 1 ? "1 session" : `${n} sessions`;
}

/** How long ago a time was, in the largest unit that fits. */
export function ago(then: number, now: number): string {
  const seconds = Math.max(0, Math.floor((now - then) / 1000));
  if (seconds < 2) return "just now";
  if (seconds < 60) return `${seconds} s ago`;
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ago`;
  if (seconds < 86_400) return `${Math.floor(seconds / 3600)} h ago`;
  return `${Math.floor(seconds / 86_400)} d ago`;
}

// Creating a format takes a hundred times as long as using it.
const clockFormat = new Intl.DateTimeFormat([], { timeStyle: "medium", hour12: false });
const exactFormat = new Intl.DateTimeFormat([], { dateStyle: "medium", timeStyle: "long" });

/** A time of day on the viewer's clock. */
export function clock(time: number | string): string {
  return clockFormat.format(new Date(time));
}

/** A date and time in the viewer's zone. */
export function exact(time: number | string): string {
  return exactFormat.format(new Date(time));
}

/** A number of milliseconds in the unit that reads best: "3 s", "37.5 s", "5 min". */
export function seconds(ms: number): string {
  return ms >= 120_000 && ms % 60_000 === 0 ? `${ms / 60_000} min` : `${ms / 1000} s`;
}

/** A duration in its largest units: "4.1 s", "3 min 20 s", "2 h 5 min". */
export function lasting(ms: number): string {
  const s = Math.max(0, ms) / 1000;
  if (s < 60) return `${s.toFixed(1)} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min ${Math.floor(s % 60)} s`;
  if (s < 172_800) return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`;
  return `${Math.floor(s / 86_400)} days`;
}

/** Why somebody left, as the end of a sentence. */
export function whyLeft(reason: string): string {
  return reasons[reason]?.left ?? reason;
}

/** What happens to a session if nothing more is heard of it. */
export function actWords(act: string, room = ""): string {
  return (acts[act] ?? act).replaceAll("{room}", room);
}
