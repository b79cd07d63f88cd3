import type { Entry } from "../api";
import { exact, lasting, whyLeft } from "../words";
import type { Bar, Part, Stay } from "./lanes";

/** Something on a lane that can be selected, and what it says. */
export interface Mark {
  readonly key: string;
  readonly kind: "live" | "grace" | "idle" | "ended" | "stay" | "joined" | "left" | "typing";
  readonly from: number;
  /** Missing while it continues, and for what took no time. */
  readonly to?: number | undefined;
  readonly reason?: string | undefined;
  /** Of a stay: the room engaged its members. */
  readonly engaged?: boolean | undefined;
  /** A text with exact times, made only when it is read. */
  says(): string;
  /** The journal entry that is the evidence. */
  readonly entry?: Entry | undefined;
}

const losses: Record<string, string> = {
  closing: "its page was closed or reloaded",
  lost: "its link was lost",
  silent: "it did not answer",
  expired: "its token expired",
};

const since = (from: number) => (Number.isFinite(from) ? `from ${exact(from)}` : "from before what is shown");
const until = (from: number, to: number | undefined) =>
  to === undefined
    ? "until now"
    : Number.isFinite(from)
      ? `for ${lasting(to - from)}, until ${exact(to)}`
      : `until ${exact(to)}`;

function ofPart(bar: Bar, part: Part, i: number): Mark {
  const name = `Session ${short(bar.session)}`;
  const says = () =>
    part.state === "live"
      ? `${name}: live ${bar.over ? `over ${over[bar.over] ?? bar.over} ` : ""}${since(part.from)} ${until(part.from, part.to)}.`
      : `${name}: in its grace, as ${losses[part.reason ?? ""] ?? "it had no link"}, ${since(part.from)} ${until(part.from, part.to)}. Others still saw them.`;
  return {
    key: `${bar.session} ${i}`,
    kind: part.state,
    from: part.from,
    to: part.to,
    reason: part.reason,
    says,
    entry: part.began,
  };
}

const over: Record<string, string> = {
  websocket: "a WebSocket",
  stream: "an event stream",
  beats: "HTTP beats",
};

/** The part of an id that people can tell apart. */
export function short(id: string): string {
  return id.replace(/^[a-z]+-/, "").slice(0, 6);
}

/** What can be selected on a session's bar, in order of time. */
export function marksOfBar(bar: Bar): readonly Mark[] {
  const marks = bar.parts.map((part, i) => ofPart(bar, part, i));
  for (const [i, idle] of bar.idle.entries()) {
    marks.push({
      key: `${bar.session} idle ${i}`,
      kind: "idle",
      from: idle.from,
      to: idle.to,
      says: () =>
        `Session ${short(bar.session)}: nobody touched it ${since(idle.from)} ${until(idle.from, idle.to)}.`,
    });
  }
  if (bar.ended) {
    const reason = bar.ended.reason ?? "";
    marks.push({
      key: `${bar.session} ended`,
      kind: "ended",
      from: bar.to ?? 0,
      to: bar.to,
      reason,
      says: () =>
        `Session ${short(bar.session)}: ended ${exact(bar.to ?? 0)} (${reason}): it ${whyLeft(reason)}.`,
      entry: bar.ended,
    });
  }
  return marks.sort((a, b) => a.from - b.from);
}

/** What can be selected on a stay. */
export function marksOfStay(stay: Stay): readonly Mark[] {
  const key = `${stay.room} ${stay.user} ${stay.from}`;
  const marks: Mark[] = [
    {
      key,
      kind: "stay",
      from: stay.from,
      to: stay.to,
      engaged: stay.engaged,
      says: () =>
        `In ${stay.room}${stay.engaged ? ", and engaged by it" : ""}, as others saw it, ${since(stay.from)} ${until(stay.from, stay.to)}.`,
      entry: stay.joined,
    },
  ];
  if (stay.joined)
    marks.push({
      key: `${key} joined`,
      kind: "joined",
      from: stay.from,
      to: stay.from,
      says: () => `Others saw them join ${stay.room} ${exact(stay.from)}.`,
      entry: stay.joined,
    });
  if (stay.left) {
    const reason = stay.left.reason ?? "";
    marks.push({
      key: `${key} left`,
      kind: "left",
      from: stay.to ?? 0,
      to: stay.to,
      reason,
      says: () => `Others saw them leave ${stay.room} ${exact(stay.to ?? 0)}: they ${whyLeft(reason)}.`,
      entry: stay.left,
    });
  }
  return marks;
}

/** Somebody typing, as seen while the page was open. */
export function markOfTyping(user: string, from: number, to: number | undefined): Mark {
  return {
    key: `${user} typing ${from}`,
    kind: "typing",
    from,
    to,
    says: () => `Typing ${since(from)} ${until(from, to)}.`,
  };
}
