import type { Room } from "@client/replica";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { ask, query, type Session } from "../api";
import { Curve, pointsOf, stepFor, useHeadcount } from "../headcount/curve";
import { LaneChart, type Row } from "./chart";
import type { Present, Span } from "./lanes";
import { useLanes } from "./use-lanes";
import { useTimeWindow, type Window } from "./window";

interface Attendance {
  readonly stays: readonly { readonly user: string; readonly name?: string }[];
}

/** A row for everybody who was in a room in the time that is looked at, over the room's headcount. */
export function RoomLanes(props: { name: string; room: Room | undefined; moment?: number | undefined }) {
  const { name, room } = props;
  const controls = useTimeWindow(props.moment === undefined ? 5 * 60_000 : 4 * 60_000, props.moment);
  const { window, now } = controls;
  const people = usePeople(name, room, window);
  const [seen, setSeen] = useState<readonly string[]>([]);
  const sessions = useQuery({
    queryKey: ["sessions", name],
    queryFn: () => ask<{ sessions: readonly Session[] }>(`/v1/sessions${query({ room: name, limit: 1000 })}`),
    staleTime: Number.POSITIVE_INFINITY, // the page asks again when somebody comes or goes
  });
  const members = room?.members;
  const present = useMemo<readonly Present[]>(
    () =>
      seen.flatMap((user) => {
        const member = members?.get(user);
        return member ? [{ user, room: name, since: Date.parse(member.since) }] : [];
      }),
    [seen, members, name],
  );
  const lanes = useLanes(seen, window, sessions.data?.sessions, present);
  const typing = useTyping(room?.typing ?? []);
  const rows = useMemo<readonly Row[]>(() => {
    const bars = Map.groupBy(lanes.bars, (bar) => bar.user);
    const stays = Map.groupBy(
      lanes.stays.filter((stay) => stay.room === name),
      (stay) => stay.user,
    );
    const shown = ({ from, to }: Span) => from < window.to && (to ?? Number.POSITIVE_INFINITY) > window.from;
    return people.map(({ user, name }) => ({
      key: user,
      name,
      href: `/people/${encodeURIComponent(user)}`,
      bars: (bars.get(user) ?? []).filter(shown),
      stays: (stays.get(user) ?? []).filter(shown),
      typing: typing.get(user),
    }));
  }, [people, lanes, typing, name, window.from, window.to]);

  const step = stepFor(window.to - window.from);
  const steps = useHeadcount(name, step, window.from, window.follows ? undefined : window.to);
  const count = room?.count.people;
  const points = pointsOf(
    steps.data ?? [],
    step,
    window.follows && count !== undefined ? { at: now, people: count } : undefined,
  );
  const most = Math.max(1, ...points.filter((p) => p.at > window.from).map((p) => p.max));
  const height = 52;
  return (
    <LaneChart
      rows={rows}
      controls={controls}
      moment={props.moment}
      onSeen={setSeen}
      notice={
        lanes.cut
          ? "There are more entries than can be drawn: what is on the right is missing. Look at a shorter time."
          : undefined
      }
      above={{
        title: `People: up to ${most}`,
        height,
        draw: (across) => (
          <Curve points={points} across={across} up={(n) => height - 3 - (n / most) * (height - 10)} />
        ),
      }}
    />
  );
}

/** Everybody who was in the room, by name. Who is there now stays in the list until it is made anew. */
function usePeople(name: string, room: Room | undefined, window: Window) {
  const step = 5 * 60_000;
  const from = Math.floor(window.from / step) * step;
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
    retry: false,
  });
  const met = useRef(new Map<string, string>());
  return useMemo(() => {
    const names = new Map<string, string>();
    for (const stay of was.data?.stays ?? []) names.set(stay.user, stay.name ?? stay.user);
    for (const member of room?.members?.values() ?? []) {
      met.current.set(member.user, member.name ?? member.user);
    }
    if (window.follows) for (const [user, name] of met.current) names.set(user, name);
    return [...names]
      .map(([user, name]) => ({ user, name }))
      .sort((a, b) => (a.name < b.name ? -1 : a.name > b.name ? 1 : a.user < b.user ? -1 : 1));
  }, [was.data, room?.members, window.follows]);
}

/** When who typed, since the page is open. */
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
