import type { components } from "@client/api-types";
import { type QueryKey, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState, useSyncExternalStore } from "react";
import { server } from "./live";

/** A shape of the HTTP API. */
export type Shape<Name extends keyof components["schemas"]> = components["schemas"][Name];

/** A refusal of the service, in the words of its problem document. */
export class Refusal extends Error {
  constructor(
    message: string,
    /** The HTTP status: 503 while the service starts or is overloaded, 429 after too many requests. */
    readonly status: number,
  ) {
    super(message);
  }
}

/** Whether a failed request may be repeated: nobody answered, or the service said "not now". */
export function mayAskAgain(_: number, error: Error): boolean {
  return !(error instanceof Refusal) || error.status === 503 || error.status === 429;
}

/** The pause before the next attempt, in milliseconds, after a number of failures. */
export function askAgainAfter(failures: number): number {
  return Math.min(250 * 2 ** failures, 1500);
}

/**
 * The error of a query, if it should replace the previous content: there was none, or it is gone or forbidden now.
 * While the service is away, the previous content stays.
 */
export function faultOf({ error, data }: { error: Error | null; data: unknown }): Error | undefined {
  if (!error) return undefined;
  const gone = error instanceof Refusal && [401, 403, 404, 410].includes(error.status);
  return data === undefined || gone ? error : undefined;
}

/** Calls the service. Throws a {@link Refusal}, or the network error. */
export async function ask<T>(path: string, init?: RequestInit): Promise<T> {
  const response = await fetch(server + path, init);
  if (response.status === 204) return undefined as T;
  const answer = await response.json();
  if (!response.ok) {
    const { detail, field, value, allowed } = answer;
    throw new Refusal(
      [detail, field && value && `${field} is “${value}”`, allowed && `allowed: ${allowed}`]
        .filter(Boolean)
        .join("; "),
      response.status,
    );
  }
  return answer;
}

/** A query string without empty values. A list is repeated for each of its values. */
export function query(parts: Record<string, string | number | undefined | readonly string[]>): string {
  const given = Object.entries(parts).flatMap(([name, value]) =>
    (Array.isArray(value) ? value : [value])
      .filter((one) => one !== undefined && one !== "")
      .map((one) => [name, String(one)]),
  );
  return given.length > 0 ? `?${new URLSearchParams(given)}` : "";
}

/** An entry of the journal. */
export type Entry = Shape<"Record">;

export type Journal = Shape<"Journal">;

/** Entries of the journal that have one cause. */
export type JournalLine = Shape<"JournalLine">;

/** A person of the directory, with their current status. */
export type Person = Shape<"Person">;

export type People = Shape<"People">;

/** What will happen to a session, and when. */
export type Upcoming = Shape<"Upcoming">;

export type Session = Shape<"Session">;

/** The sessions in a room, up to a thousand. The page of a room requests them again when somebody joins or leaves. */
export function useSessions(room: string) {
  return useQuery({
    queryKey: ["sessions", room],
    queryFn: () => ask<{ sessions: readonly Session[] }>(`/v1/sessions${query({ room, limit: 1000 })}`),
    staleTime: Number.POSITIVE_INFINITY,
    structuralSharing: false, // to compare so many takes longer than to show them
  });
}

/** The explanation of a person's status. */
export type Explanation = Shape<"Explanation">;

/** What to do with the events of a stream, by their names. */
export type Listeners = Readonly<Record<string, (data: string) => void>>;

/**
 * Follows an event stream of the service, and returns whether it is open. A broken stream is opened again. While the
 * page is hidden there is no stream, because a browser has few connections to one server. Without a key nothing is
 * followed; another key is another stream. The address is asked for at each opening.
 */
export function useEvents(key: string | undefined, address: () => string, listeners: Listeners): boolean {
  const [open, setOpen] = useState(false);
  const [tries, setTries] = useState(0);
  const visible = useVisible();
  const newest = useRef({ address, listeners });
  newest.current = { address, listeners };
  // biome-ignore lint/correctness/useExhaustiveDependencies: each try is another stream
  useEffect(() => {
    if (!visible || key === undefined) return;
    const source = new EventSource(server + newest.current.address());
    let retry: ReturnType<typeof setTimeout> | undefined;
    source.onopen = () => setOpen(true);
    source.onerror = () => {
      setOpen(false);
      // A browser does not try again after an error response, such as from a service that is starting.
      if (source.readyState === EventSource.CLOSED) retry = setTimeout(() => setTries((n) => n + 1), 1000);
    };
    for (const name of Object.keys(newest.current.listeners))
      source.addEventListener(name, (event) => newest.current.listeners[name]?.(event.data));
    return () => {
      clearTimeout(retry);
      source.close();
      setOpen(false);
    };
  }, [key, visible, tries]);
  return open;
}

/**
 * Follows the journal from now on, and returns whether the stream is open. Entries that arrive together are passed on
 * together. After a pause the stream continues after the last entry. Without a filter nothing is followed. Queries with
 * the key `past` are repeated whenever the stream opens: an earlier answer may lack what came just before.
 */
export function useJournalStream(
  filter: Record<string, string | readonly string[]> | undefined,
  past: QueryKey,
  onEntries: (entries: readonly Entry[]) => void,
): boolean {
  return useGathered<Entry>(filter, past, "entry", (entry) => entry.id, onEntries);
}

/** Follows the journal as {@link useJournalStream}, with entries of one cause put together. */
export function useJournalLines(
  filter: Record<string, string | readonly string[]> | undefined,
  past: QueryKey,
  onLines: (lines: readonly JournalLine[]) => void,
): boolean {
  return useGathered<JournalLine>(
    filter && { ...filter, by: "cause" },
    past,
    "line",
    (line) => line.entries.at(-1)?.id ?? 0,
    onLines,
  );
}

function useGathered<T>(
  filter: Record<string, string | readonly string[]> | undefined,
  past: QueryKey,
  event: string,
  idOf: (one: T) => number,
  onAll: (all: readonly T[]) => void,
): boolean {
  const last = useRef(0);
  const waiting = useRef<T[]>([]);
  const frame = useRef(0);
  const newest = useRef(onAll);
  newest.current = onAll;
  const flush = useCallback(() => {
    frame.current = 0;
    if (waiting.current.length > 0) newest.current(waiting.current);
    waiting.current = [];
  }, []);
  useEffect(
    () => () => {
      cancelAnimationFrame(frame.current);
      flush();
    },
    [flush],
  );
  const open = useEvents(
    filter && JSON.stringify(filter),
    () => `/v1/journal${query({ ...filter, after: last.current || undefined })}`,
    {
      [event]: (data) => {
        const one: T = JSON.parse(data);
        last.current = Math.max(last.current, idOf(one));
        waiting.current.push(one);
        frame.current ||= requestAnimationFrame(flush);
      },
    },
  );
  const client = useQueryClient();
  const key = useRef(past);
  key.current = past;
  useEffect(() => {
    if (!open) return;
    const filters = { queryKey: key.current };
    // A first answer that is on its way would not be requested again.
    void client.cancelQueries(filters).then(() => client.refetchQueries({ ...filters, type: "active" }));
  }, [open, client]);
  return open;
}

/**
 * Repeats queries some time after their data may have changed: at most once per delay, and always after the last
 * change.
 */
export function useAskAgain(keys: readonly QueryKey[], delay: number): () => void {
  const client = useQueryClient();
  const latest = useRef(keys);
  latest.current = keys;
  const pending = useRef<{ timer: ReturnType<typeof setTimeout>; again: boolean }>(undefined);
  useEffect(() => () => clearTimeout(pending.current?.timer), []);
  return useCallback(() => {
    const arm = () => {
      const timer = setTimeout(() => {
        for (const queryKey of latest.current) void client.invalidateQueries({ queryKey });
        const again = pending.current?.again;
        pending.current = undefined;
        if (again) arm();
      }, delay);
      pending.current = { timer, again: false };
    };
    if (pending.current) pending.current.again = true;
    else arm();
  }, [client, delay]);
}

/** Whether the page is visible. */
function useVisible(): boolean {
  return useSyncExternalStore(
    (changed) => {
      document.addEventListener("visibilitychange", changed);
      return () => document.removeEventListener("visibilitychange", changed);
    },
    () => document.visibilityState === "visible",
  );
}
