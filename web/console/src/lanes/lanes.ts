import type { Entry, Session } from "../api";

/**
 * A period, in milliseconds since 1970. It begins at minus infinity if its beginning is not known, and has no end
 * while it continues.
 */
export interface Span {
  readonly from: number;
  readonly to?: number | undefined;
}

/** A part of a session: with a link, or waiting for one. */
export interface Part extends Span {
  readonly state: "live" | "grace";
  /** The journal entry at its beginning. */
  readonly began?: Entry | undefined;
  /** Why the link was lost. */
  readonly reason?: string | undefined;
}

/** A session as a bar. */
export interface Bar extends Span {
  readonly session: string;
  readonly user: string;
  readonly over?: string | undefined;
  readonly parts: readonly Part[];
  readonly idle: readonly Span[];
  readonly ended?: Entry | undefined;
}

/** A stay in a room, as others saw it. */
export interface Stay extends Span {
  readonly user: string;
  readonly room: string;
  readonly joined?: Entry | undefined;
  readonly left?: Entry | undefined;
  /** The room engaged its members. */
  readonly engaged?: boolean;
}

/** Somebody who is in a room now. */
export interface Present {
  readonly user: string;
  readonly room: string;
  readonly since: number;
}

type Draft<T> = { -readonly [K in keyof T]: T[K] extends readonly (infer E)[] ? Draft<E>[] : T[K] };

/** Creates the bar of a session with what is known about its beginning. */
function begin(entry: Entry, at: number): Draft<Bar> {
  const bar: Draft<Bar> = {
    session: entry.session ?? "",
    user: entry.user ?? "",
    over: entry.over,
    from: Number.NEGATIVE_INFINITY,
    to: undefined,
    parts: [],
    idle: [],
    ended: undefined,
  };
  const before = at - (entry.length ?? 0);
  switch (entry.kind) {
    case "session.opened":
      bar.from = at;
      break;
    case "session.ended":
      bar.from = before;
      break;
    case "session.resumed":
      bar.parts.push(part("live", Number.NEGATIVE_INFINITY, before), part("grace", before));
      return bar;
    case "session.active":
      bar.idle.push({ from: bar.from, to: undefined });
  }
  bar.parts.push(part("live", bar.from));
  return bar;
}

function part(state: Part["state"], from: number, to?: number): Draft<Part> {
  return { state, from, to, began: undefined, reason: undefined };
}

/**
 * Makes bars from journal entries, in their order, and from the current sessions. What older entries would say is
 * inferred where possible.
 */
export function barsOf(entries: readonly Entry[], sessions: readonly Session[] = []): readonly Bar[] {
  const bars = new Map<string, Draft<Bar>>();
  for (const entry of entries) {
    if (!entry.session || !entry.kind.startsWith("session.")) continue;
    const at = Date.parse(entry.at);
    let bar = bars.get(entry.session);
    if (!bar) {
      bar = begin(entry, at);
      bars.set(entry.session, bar);
    }
    apply(bar, entry, at);
  }
  for (const session of sessions) {
    const bar = bars.get(session.session);
    if (!bar) bars.set(session.session, present(session));
    else if (bar.from === Number.NEGATIVE_INFINITY) {
      bar.from = Date.parse(session.opened);
      const [first] = bar.parts;
      if (first) first.from = Math.min(bar.from, first.to ?? bar.from);
    }
  }
  return [...bars.values()].sort((a, b) => a.from - b.from || (a.session < b.session ? -1 : 1));
}

function apply(bar: Draft<Bar>, entry: Entry, at: number): void {
  const last = bar.parts.at(-1) as Draft<Part>;
  const idle = bar.idle.at(-1);
  const next = (state: Part["state"]) => {
    last.to = at;
    bar.parts.push({ ...part(state, at), began: entry, reason: entry.reason });
  };
  switch (entry.kind) {
    case "session.opened":
      last.began = entry;
      return;
    case "session.lost":
      if (last.state === "live") next("grace");
      else last.reason = entry.reason; // a second sign of loss
      return;
    case "session.resumed":
      next("live");
      return;
    case "session.ended":
      last.to = at;
      bar.to = at;
      bar.ended = entry;
      if (idle) idle.to ??= at;
      return;
    case "session.idle":
      if (!idle || idle.to !== undefined) bar.idle.push({ from: at, to: undefined });
      return;
    case "session.active":
      if (idle) idle.to ??= at;
  }
}

function present(session: Session): Draft<Bar> {
  const from = Date.parse(session.opened);
  const lost = Date.parse(session.last_heard);
  const parts =
    session.state === "grace"
      ? [part("live", from, lost), { ...part("grace", lost), reason: session.reason }]
      : [part("live", from)];
  const idle = session.idle
    ? [{ from: Math.max(from, Date.parse(session.last_activity)), to: undefined }]
    : [];
  return {
    session: session.session,
    user: session.user,
    over: session.over,
    from,
    to: undefined,
    parts,
    idle,
    ended: undefined,
  };
}

/** Puts overlapping bars on different tracks, as few as possible. */
export function tracksOf(bars: readonly Bar[]): readonly (readonly Bar[])[] {
  const tracks: Bar[][] = [];
  for (const bar of bars) {
    const free = tracks.find((track) => (track.at(-1)?.to ?? Number.POSITIVE_INFINITY) <= bar.from);
    if (free) free.push(bar);
    else tracks.push([bar]);
  }
  return tracks;
}

/** Makes stays from journal entries, and from who is there now. */
export function staysOf(entries: readonly Entry[], now: readonly Present[] = []): readonly Stay[] {
  const open = new Map<string, Draft<Stay>>();
  const stays: Draft<Stay>[] = [];
  for (const entry of entries) {
    const { kind, user, room } = entry;
    if (!user || !room) continue;
    const key = `${room} ${user}`;
    const at = Date.parse(entry.at);
    if (kind === "member.joined") {
      const stay: Draft<Stay> = { user, room, from: at, to: undefined, joined: entry, left: undefined };
      open.set(key, stay);
      stays.push(stay);
    } else if (kind === "member.left") {
      let stay = open.get(key);
      if (!stay) {
        stay = { user, room, from: at - (entry.length ?? 0), to: at, joined: undefined, left: undefined };
        stays.push(stay);
      }
      stay.to = at;
      stay.left = entry;
      open.delete(key);
    } else if (kind === "engaged.began" || kind === "engaged.ended") {
      const stay = stays.findLast((s) => s.user === user && s.room === room);
      if (stay) stay.engaged = true;
    }
  }
  for (const { user, room, since } of now) {
    if (
      open.has(`${room} ${user}`) ||
      stays.some((s) => s.user === user && s.room === room && (s.to ?? 0) > since)
    )
      continue;
    stays.push({ user, room, from: since, to: undefined, joined: undefined, left: undefined });
  }
  return stays;
}

/** The periods that overlap a window of time. */
export function within<T extends Span>(
  list: readonly T[],
  window: { readonly from: number; readonly to: number },
): readonly T[] {
  return list.filter(({ from, to }) => from < window.to && (to ?? Number.POSITIVE_INFINITY) > window.from);
}

/** The parts of a window of time without a stay. */
export function gapsOf(
  stays: readonly Span[],
  window: { readonly from: number; readonly to: number },
): readonly Span[] {
  const gaps: Span[] = [];
  let covered = window.from;
  for (const stay of [...stays].sort((a, b) => a.from - b.from)) {
    if (stay.from > covered) gaps.push({ from: covered, to: Math.min(stay.from, window.to) });
    covered = Math.max(covered, stay.to ?? Number.POSITIVE_INFINITY);
    if (covered >= window.to) return gaps;
  }
  gaps.push({ from: covered, to: window.to });
  return gaps;
}

/** Entries without duplicates, in their order. */
export function merge(...lists: (readonly Entry[])[]): readonly Entry[] {
  const known = new Map<number, Entry>();
  for (const list of lists) for (const entry of list) known.set(entry.id, entry);
  return [...known.values()].sort((a, b) => a.id - b.id);
}
