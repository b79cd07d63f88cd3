import type { Link } from "@client/link";
import type { Room } from "@client/replica";
import { useEffect, useMemo, useRef, useState } from "react";
import { openLink } from "./live";

/** Whether a room matches a pattern (`*` is one word, `**` the rest), or its name contains a text. */
export function matches(filter: string, room: string): boolean {
  if (!filter.includes("*")) return room.includes(filter.toLowerCase());
  const words = room.split(".");
  const wanted = filter.split(".");
  return (
    wanted.every((word, i) => word === "**" || (word === "*" ? words[i] !== undefined : word === words[i])) &&
    (wanted.at(-1) === "**" ? words.length >= wanted.length : words.length === wanted.length)
  );
}

/** The patterns in a field of a form, between spaces or commas; none stands for all rooms. */
export function patterns(field: FormDataEntryValue | null): string[] | undefined {
  const list = String(field ?? "")
    .split(/[\s,]+/)
    .filter(Boolean);
  return list.length > 0 ? list : undefined;
}

/** The orders of rooms. */
export const orders = {
  "by name": () => 0,
  "most people": (a: Room, b: Room) => b.count.people - a.count.people,
  "most sessions": (a: Room, b: Room) => b.count.sessions - a.count.sessions,
  "most away": (a: Room, b: Room) => b.count.away.people - a.count.away.people,
  "changed last": (a: Room, b: Room) => changed(b) - changed(a),
} as const;

export type Order = keyof typeof orders;

const seen = new WeakMap<Room, number>();

/** When a state of a room was first seen. */
function changed(room: Room): number {
  return seen.get(room) ?? 0;
}

/** Notes which rooms have changed, and returns how many. */
export function noteChanges(before: ReadonlyMap<string, Room>, now: ReadonlyMap<string, Room>): number {
  let changes = 0;
  for (const [name, room] of now) {
    if (before.get(name) === room) continue;
    seen.set(room, Date.now());
    changes++;
  }
  return changes;
}

/** Sorts rooms, which are ordered by name, in another order; pinned rooms are first. */
export function ordered(
  rooms: readonly Room[],
  by: Order,
  filter: string,
  pinned: ReadonlySet<string>,
): readonly Room[] {
  const found = filter === "" ? rooms : rooms.filter((room) => matches(filter, room.room));
  const list = by === "by name" ? found : found.toSorted(orders[by]);
  if (pinned.size === 0) return list;
  const first = list.filter((room) => pinned.has(room.room));
  return first.length === 0 ? list : [...first, ...list.filter((room) => !pinned.has(room.room))];
}

const pinnedName = "tovik.pinned";

/** The rooms pinned in this browser. */
export function usePinned(): [ReadonlySet<string>, (room: string) => void] {
  const [pinned, setPinned] = useState<ReadonlySet<string>>(() => {
    try {
      return new Set(JSON.parse(localStorage.getItem(pinnedName) ?? "[]"));
    } catch {
      return new Set(); // somebody else's value
    }
  });
  const toggle = (room: string) =>
    setPinned((known) => {
      const next = new Set(known);
      if (!next.delete(room)) next.add(room);
      localStorage.setItem(pinnedName, JSON.stringify([...next]));
      return next;
    });
  return [pinned, toggle];
}

/** Typing is not shown for rooms with more people. */
const large = 500;

/** Who is typing in the visible rooms, by room, from a link that follows their members. */
export function useTypists(rooms: readonly Room[]): ReadonlyMap<string, readonly string[]> {
  const wanted = rooms
    .filter((room) => room.count.people <= large)
    .map((room) => room.room)
    .join(" ");
  const [typists, setTypists] = useState<ReadonlyMap<string, readonly string[]>>(new Map());
  const link = useRef<Link>(undefined);
  const followed = useRef(new Set<string>());
  useEffect(() => {
    const opened = openLink([]);
    link.current = opened;
    followed.current = new Set();
    let known = "";
    const undo = opened.subscribe(() => {
      const next = new Map<string, readonly string[]>();
      for (const room of opened.snapshot.rooms.values()) {
        if (room.typing.length === 0) continue;
        next.set(
          room.room,
          room.typing.map((user) => room.members?.get(user)?.name ?? user),
        );
      }
      const text = JSON.stringify([...next]);
      if (text !== known) setTypists(next);
      known = text;
    });
    return () => {
      undo();
      opened.close();
    };
  }, []);
  useEffect(() => {
    // While somebody scrolls, rooms that pass by are not followed.
    const timer = setTimeout(() => {
      const names = new Set(wanted === "" ? [] : wanted.split(" "));
      for (const room of followed.current) if (!names.has(room)) void link.current?.unwatch(room);
      for (const room of names) if (!followed.current.has(room)) void link.current?.watch(room, "members");
      followed.current = names;
    }, 250);
    return () => clearTimeout(timer);
  }, [wanted]);
  return typists;
}

/** The changes of counts per second, over the last ten seconds. */
export function useRate(): [rate: number, add: (changes: number) => void] {
  const [rate, setRate] = useState(0);
  const counts = useRef<[at: number, changes: number][]>([]);
  useEffect(() => {
    const timer = setInterval(() => {
      const since = Date.now() - 10_000;
      counts.current = counts.current.filter(([at]) => at > since);
      setRate(counts.current.reduce((sum, [, n]) => sum + n, 0) / 10);
    }, 1000);
    return () => clearInterval(timer);
  }, []);
  const add = useMemo(
    () => (changes: number) => {
      if (changes > 0) counts.current.push([Date.now(), changes]);
    },
    [],
  );
  return [rate, add];
}
