import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "wouter";
import {
  ask,
  type Entry,
  faultOf,
  type Journal,
  type JournalLine,
  query,
  useJournalLines,
  useJournalStream,
} from "../api";
import { server } from "../live";
import { Entries, Lines } from "../parts/entries";
import { Frame, Sheet } from "../parts/frame";

const kinds = [
  "member.joined",
  "member.left",
  "status.changed",
  "session.opened",
  "session.lost",
  "session.resumed",
  "session.ended",
  "session.idle",
  "session.active",
  "session.joined",
  "session.left",
  "person.removed",
  "engaged.began",
  "engaged.ended",
  "ask.opened",
  "ask.answered",
  "invitation.opened",
  "invitation.answered",
  "quota.near",
  "quota.reached",
  "service.started",
  "service.stopped",
  "service.suspended",
  "journal.gap",
  "key.added",
  "key.revoked",
  "token-key.added",
  "token-key.revoked",
  "hook.added",
  "hook.changed",
  "hook.removed",
  "room.declared",
  "room.undeclared",
  "person.signed-out",
  "person.erased",
  "person.exported",
  "config.reloaded",
  "records.backed-up",
];

/** Higher than every id, so that the page before it is the newest one. */
const newest = 2 ** 53;

/** What has come since the page was opened, the newest first. */
interface Fresh {
  readonly key: string;
  readonly entries: readonly Entry[];
  readonly lines: readonly JournalLine[];
}

/** Each id once: the first of several is the newest. */
function once<T extends { id: number }>(list: readonly T[]): readonly T[] {
  const known = new Set<number>();
  return list.filter(({ id }) => !known.has(id) && known.add(id));
}

/** The journal, newest first, live. The filter is part of the address, so that it can be bookmarked and shared. */
export function JournalPage({ onSignOut }: { onSignOut: () => void }) {
  const [search, setSearch] = useSearchParams();
  const filter = {
    room: search.get("room") ?? "",
    user: search.get("user") ?? "",
    kind: search.get("kind") ?? "",
    from: search.get("from") ?? "",
    to: search.get("to") ?? "",
  };
  const { from: _, to, ...live } = filter;
  const flat = search.get("flat") === "yes";
  const key = query({ ...filter, flat: flat ? "yes" : "" });
  const [fresh, setFresh] = useState<Fresh>({ key, entries: [], lines: [] });
  const pastKey = ["journal", key];
  const past = useInfiniteQuery({
    queryKey: pastKey,
    queryFn: ({ pageParam }) =>
      ask<Journal>(
        `/v1/journal${query({ ...filter, by: flat ? "" : "cause", limit: flat ? 100 : 300, before: pageParam })}`,
      ),
    initialPageParam: newest,
    getNextPageParam: (page) => page.older,
    staleTime: Number.POSITIVE_INFINITY, // what comes is followed
  });
  const fault = faultOf(past);
  const add = (more: Partial<Fresh>) =>
    setFresh((now) => {
      const before = now.key === key ? now : { entries: [], lines: [] };
      return {
        key,
        entries: [...[...(more.entries ?? [])].reverse(), ...before.entries].slice(0, 1000),
        lines: [...[...(more.lines ?? [])].reverse(), ...before.lines].slice(0, 1000),
      };
    });
  const follows = to === "" ? live : undefined;
  const openFlat = useJournalStream(flat ? follows : undefined, pastKey, (entries) => add({ entries }));
  const openLines = useJournalLines(flat ? undefined : follows, pastKey, (lines) => add({ lines }));
  const open = flat ? openFlat : openLines;
  const now = fresh.key === key ? fresh : undefined;
  const pages = past.data?.pages ?? [];
  const entries = once([...(now?.entries ?? []), ...pages.flatMap((page) => page.entries.toReversed())]);
  const lines = once([...(now?.lines ?? []), ...pages.flatMap((page) => (page.lines ?? []).toReversed())]);
  const change = (name: string, value: string) =>
    setSearch((now) => {
      const next = new URLSearchParams(now);
      if (value) next.set(name, value);
      else next.delete(name);
      return next;
    });
  return (
    <Frame title="Journal" heard={to === "" ? open : undefined} onSignOut={onSignOut}>
      <h1 className="pb-3 font-semibold text-2xl tracking-tight">Journal</h1>
      <form
        className="flex flex-wrap items-end gap-3 pb-4 text-sm"
        onSubmit={(event) => event.preventDefault()}
      >
        <Field label="Rooms" hint="basin.*" value={filter.room} onChange={(value) => change("room", value)} />
        <Field label="Person" hint="e-01" value={filter.user} onChange={(value) => change("user", value)} />
        <Field label="From" hint="90m, 7d" value={filter.from} onChange={(value) => change("from", value)} />
        <Field label="Until" hint="now" value={filter.to} onChange={(value) => change("to", value)} />
        <label className="grid gap-1">
          <span className="text-muted text-xs">Kind</span>
          <select
            value={filter.kind}
            onChange={(event) => change("kind", event.target.value)}
            className="rounded-md border border-line bg-sheet px-2 py-1.5"
          >
            <option value="">all</option>
            {kinds.map((kind) => (
              <option key={kind}>{kind}</option>
            ))}
          </select>
        </label>
        <label className="inline-flex items-center gap-1.5 py-1.5">
          <input
            type="checkbox"
            checked={flat}
            onChange={(event) => change("flat", event.target.checked ? "yes" : "")}
            className="accent-water"
          />
          Single entries
        </label>
        <span className="grow" />
        <span className="text-muted text-xs">
          Export as{" "}
          <a
            className="text-water underline decoration-1 underline-offset-2 hover:decoration-current"
            href={`${server}/v1/journal${query({ ...filter, format: "csv" })}`}
            download="journal.csv"
          >
            CSV
          </a>{" "}
          or{" "}
          <a
            className="text-water underline decoration-1 underline-offset-2 hover:decoration-current"
            href={`${server}/v1/journal${query({ ...filter, format: "ndjson" })}`}
            download="journal.ndjson"
          >
            NDJSON
          </a>
        </span>
      </form>
      {fault ? (
        <p role="alert" className="rounded-md border border-line bg-wash px-4 py-2.5 text-sm">
          {fault.message}
        </p>
      ) : (
        <Sheet>
          {past.isPending ? (
            <p className="p-4 text-muted text-sm">Waiting for the service…</p>
          ) : flat ? (
            <Entries entries={entries} />
          ) : (
            <Lines lines={lines} />
          )}
        </Sheet>
      )}
      {past.hasNextPage && (
        <button
          type="button"
          onClick={() => void past.fetchNextPage()}
          className="mt-3 rounded-md border border-line px-4 py-2 text-sm hover:bg-wash"
        >
          Older entries
        </button>
      )}
    </Frame>
  );
}

/** A field of the filter. It is applied on Enter, or when the field loses the focus. */
export function Field(props: {
  label: string;
  hint: string;
  value: string;
  onChange: (value: string) => void;
}) {
  return (
    <label className="grid gap-1">
      <span className="text-muted text-xs">{props.label}</span>
      <input
        key={props.value}
        defaultValue={props.value}
        placeholder={props.hint}
        onBlur={(event) => props.onChange(event.target.value.trim())}
        onKeyDown={(event) => event.key === "Enter" && props.onChange(event.currentTarget.value.trim())}
        className="w-40 rounded-md border border-line bg-sheet px-2 py-1.5 placeholder:text-muted/80"
      />
    </label>
  );
}
