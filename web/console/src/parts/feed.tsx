import type { ReactNode } from "react";
import { Link } from "wouter";
import type { Line } from "../live";
import { clock, sessions, whyLeft } from "../words";

/** What happened in a room since the page was opened, newest first. */
export function Feed({ lines, linked = false }: { lines: readonly Line[]; linked?: boolean }) {
  if (lines.length === 0) {
    return <p className="p-4 text-muted text-sm">Nothing has changed since you opened this page.</p>;
  }
  return (
    <ol className="divide-y divide-line text-sm" data-feed>
      {lines.map((line) => (
        <FeedLine key={line.id} at={line.at ?? line.seen}>
          <ul>
            {line.joined.map((m) => (
              <li key={m.user}>
                <Name {...m} linked={linked} /> joined
              </li>
            ))}
            {line.changed.map((m) => (
              <li key={m.user}>
                <Name {...m} linked={linked} /> is now {m.engaged ? "engaged" : m.status}, with{" "}
                {sessions(m.sessions)}
              </li>
            ))}
            {line.left.map((d) => (
              <li key={d.user}>
                <Name user={d.user} name={d.was?.name} linked={linked} /> left
                <Because reason={d.reason} />
              </li>
            ))}
          </ul>
        </FeedLine>
      ))}
    </ol>
  );
}

/** A person's name; for an operator, a link to their page. */
export function Name(props: { user: string; name?: string | undefined; linked: boolean }) {
  const name = props.name ?? props.user;
  if (!props.linked) return <b className="font-medium">{name}</b>;
  return (
    <Link href={`/people/${encodeURIComponent(props.user)}`} className="font-medium hover:underline">
      {name}
    </Link>
  );
}

/** The reason of a leave. */
export function Because({ reason }: { reason?: string | undefined }) {
  return reason && <span className="text-muted">: {whyLeft(reason)}</span>;
}

/** An event with its time. */
export function FeedLine({ at, children }: { at: string | number; children: ReactNode }) {
  return (
    <li className="flex gap-3 px-4 py-2">
      <time className="font-mono text-muted text-xs leading-5">{clock(at)}</time>
      <div>{children}</div>
    </li>
  );
}
