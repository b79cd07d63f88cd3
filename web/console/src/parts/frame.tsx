import type { State } from "@client/link";
import type { Count } from "@client/wire";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { Link, useLocation } from "wouter";
import { ask } from "../api";
import type { Health } from "../health";
import mark from "../mark.svg";
import { offersPractice } from "../operator";
import { clock, people, sessions } from "../words";
import { Palette } from "./palette";
import { nodesPlace, places } from "./places";

const words: Record<State["word"], string> = {
  connecting: "connecting",
  open: "live",
  lost: "link lost, trying again",
  refused: "refused",
  closed: "closed",
};

/** The state of the page's own link. What the page shows is current only while it is open. */
export function LinkState({ state }: { state: State }) {
  const live = state.word === "open";
  return (
    <span
      role="status"
      data-link={state.word}
      title={state.reason}
      className={`inline-flex items-center gap-2 rounded-full border px-3 py-1 text-xs ${
        live ? "border-line text-muted" : "border-lamp text-lamp"
      }`}
    >
      <svg viewBox="0 0 14 8" className="h-2 w-3.5" aria-hidden="true">
        <path
          d={live ? "M1 4c2-4 4-4 6 0s4 4 6 0" : "M1 4h3M10 4h3"}
          fill="none"
          stroke="currentColor"
          strokeWidth="1.8"
          strokeLinecap="round"
        />
      </svg>
      {words[state.word]}
    </span>
  );
}

/** Since when the page's data is old: since the service was last heard. */
function useOldSince(state: State | undefined): number | undefined {
  const [since, setSince] = useState<number>();
  const heard = useRef(false);
  const open = state?.word === "open";
  const over = state?.word === "closed" || state?.word === "refused";
  if (open) heard.current = true;
  const client = useQueryClient();
  useEffect(() => {
    if (open || over || !heard.current) return;
    setSince(Date.now());
    return () => {
      setSince(undefined);
      void client.invalidateQueries(); // what was not heard is asked for
    };
  }, [open, over, client]);
  return since;
}

/** The frame of every page of the console. */
export function Frame(props: {
  /** The title in the browser's tab. */
  title: string;
  /** The state of the page's link. */
  state?: State;
  /** For a page that follows the journal: whether its stream is open. */
  heard?: boolean | undefined;
  onSignOut?: () => void;
  wide?: boolean;
  children: ReactNode;
}) {
  const [here] = useLocation();
  const heard: State | undefined =
    props.heard === undefined ? undefined : { word: props.heard ? "open" : "lost" };
  const state = props.state ?? heard;
  const { data: practice } = useQuery({
    queryKey: ["practice"],
    queryFn: offersPractice,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const { data: health } = useQuery({
    queryKey: ["node"],
    queryFn: () => ask<Health>("/v1/health"),
    staleTime: Number.POSITIVE_INFINITY,
    enabled: props.onSignOut !== undefined,
  });
  const oldSince = useOldSince(props.onSignOut && state);
  useEffect(() => {
    document.title = `${props.title} · Tovik`;
  }, [props.title]);
  return (
    <div className={`mx-auto px-5 pb-10 ${props.wide ? "max-w-[100rem]" : "max-w-6xl"}`}>
      <header className="flex flex-wrap items-center gap-x-3 gap-y-2 py-5">
        <Link href="/" className="flex items-center gap-2.5 font-semibold text-lg tracking-tight">
          <img src={mark} alt="" className="size-7" />
          Tovik
        </Link>
        {props.onSignOut && (
          <nav
            aria-label="Console"
            className="-mx-2 order-last flex w-full flex-wrap gap-0.5 sm:order-none sm:mx-0 sm:w-auto sm:pl-2"
          >
            {[...places, ...(health?.node ? [nodesPlace] : [])].map(([to, name]) => {
              const current = to === "/" ? here === "/" || here.startsWith("/rooms/") : here.startsWith(to);
              return (
                <Link
                  key={to}
                  href={to}
                  aria-current={current ? "page" : undefined}
                  className={`rounded px-2 py-1 text-sm hover:text-ink ${current ? "bg-wash font-medium text-ink" : "text-muted"}`}
                >
                  {name}
                </Link>
              );
            })}
          </nav>
        )}
        <span className="grow" />
        {props.onSignOut && <Palette />}
        {practice && (
          <Link
            href="/practice"
            className={`rounded px-2 py-1 text-muted text-sm hover:text-ink ${props.onSignOut ? "hidden sm:block" : ""}`}
          >
            Practice
          </Link>
        )}
        {state && <LinkState state={state} />}
        {props.onSignOut && (
          <button
            type="button"
            onClick={props.onSignOut}
            className="rounded px-2 py-1 text-muted text-sm hover:text-ink"
          >
            Sign out
          </button>
        )}
      </header>
      <p
        role="status"
        data-old={oldSince}
        className="empty:hidden mb-4 rounded-md border border-lamp bg-wash px-4 py-2.5 text-sm"
      >
        {oldSince !== undefined && (
          <>
            <b className="font-semibold">The service has not been heard since {clock(oldSince)}.</b> What is
            shown is of then. It is tried again all the time.
          </>
        )}
      </p>
      <div className={oldSince === undefined ? undefined : "opacity-60"}>{props.children}</div>
    </div>
  );
}

/** A room's name with its count, as the heading of a page. */
export function RoomTitle({ name, count }: { name: string; count: Count | undefined }) {
  return (
    <div className="flex flex-wrap items-baseline gap-x-5 gap-y-1 pb-4">
      <h1 className="font-mono font-semibold text-xl tracking-tight">{name}</h1>
      {count && (
        <p className="text-muted text-sm" data-count>
          {people(count.people)} · {sessions(count.sessions)}
        </p>
      )}
    </div>
  );
}

/** A titled sheet of a page. */
export function Sheet({ title, children }: { title?: string; children: ReactNode }) {
  return (
    <section className="overflow-hidden rounded-xl border border-line bg-sheet">
      {title && <h2 className="border-line border-b px-4 py-2.5 font-medium text-muted text-xs">{title}</h2>}
      {children}
    </section>
  );
}

/** Shown instead of a page whose link was refused. */
export function Refused({ state, children }: { state: State; children?: ReactNode }) {
  return (
    <Sheet title="The service refused this page">
      <div className="space-y-3 p-4">
        <p role="alert">{state.reason}</p>
        {children}
      </div>
    </Sheet>
  );
}
