import type { Room } from "@client/replica";
import { sessions } from "../words";
import { Person } from "./person";
import { StatusMark } from "./status-mark";
import { Time } from "./time";

/** Everybody in a room: you, and then those who came first. */
export function Members({
  room,
  now,
  you,
  linked = false,
}: {
  room: Room;
  now: number;
  you?: string | undefined;
  /** Whether names lead to the pages of people, which operators see. */
  linked?: boolean;
}) {
  const members = [...(room.members?.values() ?? [])].sort(
    (a, b) =>
      Number(b.user === you) - Number(a.user === you) ||
      a.since.localeCompare(b.since) ||
      a.user.localeCompare(b.user),
  );
  if (members.length === 0) {
    return <p className="p-6 text-muted">Nobody is here. The list fills as soon as somebody joins.</p>;
  }
  return (
    <table className="w-full text-left text-sm" data-members>
      <thead className="text-muted text-xs">
        <tr className="border-line border-b [&>th]:px-4 [&>th]:py-2 [&>th]:font-medium">
          <th scope="col">Person</th>
          <th scope="col">Status</th>
          <th scope="col">Here since</th>
          <th scope="col" className="text-right">
            Sessions
          </th>
        </tr>
      </thead>
      <tbody>
        {members.map((m) => (
          <tr
            key={`${m.user} ${m.since}`}
            data-user={m.user}
            className="washed border-line border-b last:border-0 [&>td]:px-4 [&>td]:py-2"
          >
            <td>
              <Person member={m} you={m.user === you} linked={linked} />
            </td>
            <td>
              <StatusMark status={m.status} />
            </td>
            <td className="text-muted">
              <Time at={m.since} now={now} />
            </td>
            <td className="text-right" title={sessions(m.sessions)}>
              <SessionTicks n={m.sessions} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** A stroke for each session of a person, with the number. */
function SessionTicks({ n }: { n: number }) {
  return (
    <span className="inline-flex items-center gap-2">
      <span aria-hidden="true" className="inline-flex gap-0.5">
        {Array.from({ length: Math.min(n, 6) }, (_, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: strokes are alike
          <span key={i} className="h-3 w-1 rounded-sm bg-water" />
        ))}
      </span>
      <span className="w-4">{n}</span>
    </span>
  );
}
