import { useQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { ask, type Entry, type Journal, query, type Session, useJournalStream } from "../api";
import { type Bar, barsOf, merge, type Present, type Stay, staysOf } from "./lanes";
import type { Window } from "./window";

/** The largest number of entries that are drawn. */
const most = 5000;
const page = 1000;

interface History {
  readonly entries: readonly Entry[];
  /** There are more entries than are drawn. */
  readonly cut: boolean;
}

/** The entries about people in a period, with those before and after it that say how it began. */
async function historyOf(users: readonly string[], from: number, to: number | undefined): Promise<History> {
  const within = { user: users, from: at(from), to: to === undefined ? undefined : at(to) };
  const before = ask<Journal>(`/v1/journal${query({ user: users, to: at(from), limit: 300 })}`);
  const after =
    to === undefined
      ? undefined
      : ask<Journal>(
          `/v1/journal${query({ user: users, kind: ["session.ended", "member.left"], from: at(to), limit: 300 })}`,
        );
  const found: Entry[] = [];
  let next: number | undefined;
  do {
    const some = await ask<Journal>(`/v1/journal${query({ ...within, after: next, limit: page })}`);
    found.push(...some.entries);
    next = some.newer;
  } while (next && found.length < most);
  return {
    entries: merge((await before).entries, found, (await after)?.entries ?? []),
    cut: next !== undefined,
  };
}

const at = (time: number) => new Date(time).toISOString();

/** The past is requested in multiples of this, so that not every move needs a request. */
const step = 10 * 60_000;

/** While a window follows the time, its beginning is requested anew after as long as this. */
const longest = 60 * 60_000;

/**
 * From when on the past of something is requested: the beginning of the window, in multiples of a step. While the
 * window follows the time, what comes later is seen live, so it stays as it was.
 */
export function useReach(of: string, window: Window, step: number): number {
  const reach = useRef({ of, from: Number.POSITIVE_INFINITY });
  const from = Math.floor(window.from / step) * step;
  const known = reach.current;
  if (!window.follows || known.of !== of || from < known.from || from > known.from + longest)
    reach.current = { of, from };
  return reach.current.from;
}

/** The data of lanes. */
export interface Lanes {
  readonly bars: readonly Bar[];
  readonly stays: readonly Stay[];
  readonly cut: boolean;
  /** Whether the journal stream is open. */
  readonly open: boolean;
  readonly ready: boolean;
}

/** The sessions and stays of people in a window of time; live while it reaches to now. */
export function useLanes(
  users: readonly string[],
  window: Window,
  sessions: readonly Session[] | undefined,
  present: readonly Present[],
): Lanes {
  const from = useReach(users.join("\n"), window, step);
  const to = window.follows ? undefined : Math.min(Math.ceil(window.to / step) * step, Date.now() + step);
  const past = useQuery({
    queryKey: ["lanes", users, from, to],
    queryFn: () => historyOf(users, from, to),
    enabled: users.length > 0,
    placeholderData: (before) => before,
    staleTime: Number.POSITIVE_INFINITY, // what comes is followed
  });
  const [fresh, setFresh] = useState<readonly Entry[]>([]);
  const open = useJournalStream(users.length > 0 ? { user: users } : undefined, ["lanes", users], (more) =>
    setFresh((known) => [...known, ...more].slice(-most)),
  );
  return useMemo(() => {
    const entries = merge(past.data?.entries ?? [], fresh);
    return {
      bars: barsOf(entries, sessions),
      stays: staysOf(entries, present),
      cut: past.data?.cut ?? false,
      open,
      ready: past.data !== undefined,
    };
  }, [past.data, fresh, sessions, present, open]);
}
