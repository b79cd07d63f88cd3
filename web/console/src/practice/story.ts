import type { Change } from "@client/replica";
import { whyLeft } from "../words";

/** A line of the story: an action, or what others were told. */
export interface Entry {
  readonly id: number;
  readonly at: number;
  readonly kind: "did" | "told" | "silent";
  readonly text: string;
}

/** What an observer was told by a change, in words. */
export function toldBy(change: Change): readonly string[] {
  return [
    ...change.joined.map((m) => `${m.name ?? m.user} joined`),
    ...change.changed.map(
      (m) =>
        `${m.name ?? m.user} is ${m.engaged ? "engaged" : m.status}, with ${m.sessions === 1 ? "1 session" : `${m.sessions} sessions`}`,
    ),
    ...change.left.map((d) => `${d.was?.name ?? d.user} left${d.reason ? `: ${whyLeft(d.reason)}` : ""}`),
  ];
}
