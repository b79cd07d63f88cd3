import type { Line } from "../live";
import { clock, sessions, why } from "../words";

/** What happened in a room since the page was opened, newest first. */
export function Feed({ lines }: { lines: readonly Line[] }) {
  if (lines.length === 0) {
    return <p className="p-4 text-muted text-sm">Nothing has changed since you opened this page.</p>;
  }
  return (
    <ol className="divide-y divide-line text-sm" data-feed>
      {lines.map((line) => (
        <li key={line.id} className="flex gap-3 px-4 py-2">
          <time className="font-mono text-muted text-xs leading-5">{clock(line.at ?? line.seen)}</time>
          <ul>
            {line.joined.map((m) => (
              <li key={m.user}>
                <b className="font-medium">{m.name ?? m.user}</b> came
              </li>
            ))}
            {line.changed.map((m) => (
              <li key={m.user}>
                <b className="font-medium">{m.name ?? m.user}</b> is now {m.status}, with{" "}
                {sessions(m.sessions)}
              </li>
            ))}
            {line.left.map((d) => (
              <li key={d.user}>
                <b className="font-medium">{d.was?.name ?? d.user}</b> left
                {d.reason && <span className="text-muted">: {why[d.reason] ?? d.reason}</span>}
              </li>
            ))}
          </ul>
        </li>
      ))}
    </ol>
  );
}
