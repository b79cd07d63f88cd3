import type { Room } from "@client/replica";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { ask, query, type Shape, useSessions } from "../api";
import { Curve, pointsOf, stepFor, useHeadcount, useHeadcounts } from "../headcount/curve";
import { useSorted } from "../sorted";
import { LaneChart } from "./chart";
import { gapsOf, type Present, type Span, within } from "./lanes";
import type { Row } from "./row-marks";
import { useLanes, useReach } from "./use-lanes";
import { useTimeWindow, type Window } from "./window";

type Attendance = Shape<"Attendance">;

/** A row for everybody who was in a room in the window, below the room's headcount. */
export function RoomLanes(props: { name: string; room: Room | undefined; moment?: number | undefined }) {
  const { name, room } = props;
  const controls = useTimeWindow(props.moment === undefined ? 5 * 60_000 : 4 * 60_000, props.moment);
  const { window, now } = controls;
  const people = usePeople(name, room, window);
  const [seen, setSeen] = useState<readonly string[]>([]);
  const sessions = useSessions(name);
  const members = room?.members;
  const present = useMemo<readonly Present[]>(
    () =>
      seen.flatMap((user) => {
        const member = members?.get(user);
        return member ? [{ user, room: name, since: Date.parse(member.since) }] : [];
      }),
    [seen, members, name],
  );
  const there = useMemo(
    () => sessions.data?.sessions.filter((session) => seen.includes(session.user)),
    [sessions.data, seen],
  );
  const lanes = useLanes(seen, window, there, present);
  const typing = useTyping(room?.typing ?? []);
  const bars = useMemo(() => Map.groupBy(lanes.bars, (bar) => bar.user), [lanes.bars]);
  const stays = useMemo(
    () =>
      Map.groupBy(
        lanes.stays.filter((stay) => stay.room === name),
        (stay) => stay.user,
      ),
    [lanes.stays, name],
  );
  const keys = useMemo(() => people.map(({ user }) => user), [people]);
  const rowOf = (user: string, i: number): Row => ({
    key: user,
    name: people[i]?.name ?? user,
    href: `/people/${encodeURIComponent(user)}`,
    bars: within(bars.get(user) ?? [], window),
    stays: within(stays.get(user) ?? [], window),
    elsewhere: lanes.ready ? gapsOf(stays.get(user) ?? [], window) : undefined,
    typing: typing.get(user),
  });

  const step = stepFor(window.to - window.from);
  const past = useHeadcount(name, step, window.from, window.follows ? undefined : window.to).data;
  const rooms = useMemo(() => (window.follows ? [name] : []), [name, window.follows]);
  const live = useHeadcounts(rooms, step, window.to - window.from).get(name);
  const steps = (window.follows ? live : past) ?? [];
  const count = room?.count.people;
  const points = pointsOf(
    steps,
    step,
    window.follows && count !== undefined ? { at: now, people: count } : undefined,
  );
  const most = Math.max(1, ...points.filter((p) => p.at > window.from).map((p) => p.max));
  const height = 52;
  return (
    <LaneChart
      keys={keys}
      rowOf={rowOf}
      room
      controls={controls}
      moment={props.moment}
      onSeen={setSeen}
      notice={
        lanes.cut
          ? "There are more entries than can be drawn, so the right side is incomplete. Choose a shorter time."
          : undefined
      }
      above={{
        title: `Up to ${most}`,
        height,
        draw: (across) => (
          <Curve points={points} across={across} up={(n) => height - 3 - (n / most) * (height - 10)} />
        ),
      }}
    />
  );
}

/** Everybody who was in the room, by name. A person who is there now stays listed until the list is requested again. */
function usePeople(name: string, room: Room | undefined, window: Window) {
  const step = 5 * 60_000;
  const from = useReach(name, window, step);
  const to = window.follows ? undefined : Math.ceil(window.to / step) * step;
  const was = useQuery({
    queryKey: ["attendance", name, from, to],
    queryFn: () =>
      ask<Attendance>(
        `/v1/attendance${query({
          room: name,
          from: new Date(from).toISOString(),
          to: to && new Date(Math.min(to, Date.now())).toISOString(),
        })}`,
      ),
    placeholderData: (before) => before,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const met = useRef<ReadonlyMap<string, Somebody>>(new Map());
  const names = useMemo(() => {
    const known = window.follows ? met.current : new Map<string, Somebody>();
    const fresh: Somebody[] = [];
    const add = (user: string, name: string | undefined) =>
      known.has(user) || fresh.push({ user, name: name ?? user });
    for (const member of room?.members?.values() ?? []) add(member.user, member.name);
    for (const stay of was.data?.stays ?? []) add(stay.user, stay.name);
    if (fresh.length === 0) return known;
    const names = new Map(known);
    for (const one of fresh.reverse()) names.set(one.user, one); // who is there now knows their name best
    if (window.follows) met.current = names;
    return names;
  }, [was.data, room?.members, window.follows]);
  return useSorted(names, userOf, byName);
}

interface Somebody {
  readonly user: string;
  readonly name: string;
}

const userOf = (one: Somebody) => one.user;
const byName = (a: Somebody, b: Somebody) => a.name < b.name || (a.name === b.name && a.user < b.user);

/** Who typed when, since the page was opened. */
function useTyping(typing: readonly string[]): ReadonlyMap<string, readonly Span[]> {
  const [spans, setSpans] = useState<ReadonlyMap<string, readonly Span[]>>(new Map());
  useEffect(() => {
    const now = Date.now();
    setSpans((known) => {
      const next = new Map(known);
      for (const user of new Set([...known.keys(), ...typing])) {
        const list = known.get(user) ?? [];
        const last = list.at(-1);
        const open = last && last.to === undefined;
        if (typing.includes(user) && !open) next.set(user, [...list.slice(-200), { from: now }]);
        else if (!typing.includes(user) && open) next.set(user, [...list.slice(0, -1), { ...last, to: now }]);
      }
      return next;
    });
  }, [typing]);
  return spans;
}
