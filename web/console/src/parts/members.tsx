import type { Room } from "@client/replica";
import type { Member } from "@client/wire";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, useMemo, useRef } from "react";
import { useSorted } from "../sorted";
import { sessions } from "../words";
import { Person } from "./person";
import { StatusMark } from "./status-mark";
import { Time } from "./time";

interface Look {
  readonly now: number;
  readonly you?: string | undefined;
  /** Whether names are links to the pages of people, which only operators can see. */
  readonly linked?: boolean;
  /** More about a person's sessions. */
  readonly kinds?: ((member: Member) => string | undefined) | undefined;
  /** Actions for a person. */
  readonly act?: ((member: Member) => ReactNode) | undefined;
}

/** Above this number, only visible rows are drawn. */
const few = 40;

/**
 * Everybody in a room: you, and then the others in the order in which they joined. Another list can be given, such as
 * a part of a large room.
 */
export function Members(
  props: Look & { room: Room; list?: readonly Member[] | undefined; onEnd?: (() => void) | undefined },
) {
  const { room, you, list } = props;
  const sorted = useSorted(room.members ?? nobody, userOf, cameFirst);
  const members = useMemo(() => {
    const own = list === undefined && you !== undefined && room.members?.get(you);
    return own ? [own, ...sorted.filter((m) => m !== own)] : (list ?? sorted);
  }, [room.members, sorted, list, you]);
  const typing = useMemo(() => new Set(room.typing), [room.typing]);
  if (members.length === 0) {
    return <p className="p-6 text-muted">Nobody is here. The list fills as soon as somebody joins.</p>;
  }
  const rows = { members, typing, look: props };
  return members.length > few ? (
    <LongTable {...rows} onEnd={props.onEnd} />
  ) : (
    <Table {...rows} from={0} to={members.length} />
  );
}

const nobody: ReadonlyMap<string, Member> = new Map();
const userOf = (m: Member) => m.user;
/** Times in the service's format sort as text. */
const cameFirst = (a: Member, b: Member) => a.since < b.since || (a.since === b.since && a.user < b.user);

interface Rows {
  readonly members: readonly Member[];
  readonly typing: ReadonlySet<string>;
  readonly look: Look;
}

const rowHeight = 49;

function LongTable({ onEnd, ...rows }: Rows & { onEnd: (() => void) | undefined }) {
  const scroller = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.members.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 8,
  });
  const items = virtual.getVirtualItems();
  const from = items[0]?.index ?? 0;
  const to = (items.at(-1)?.index ?? -1) + 1;
  return (
    <div
      ref={scroller}
      className="max-h-[36rem] overflow-y-auto"
      onScroll={() => to >= rows.members.length && onEnd?.()}
    >
      <Table {...rows} from={from} to={to} />
    </div>
  );
}

/** A table that has rows only for its visible part, and empty space for the rest. */
function Table({ members, typing, look, from, to }: Rows & { from: number; to: number }) {
  const { now, you, linked = false, kinds, act } = look;
  const space = (rows: number) => rows > 0 && <tr style={{ height: rows * rowHeight }} />;
  return (
    <table
      className="w-full text-left text-sm max-sm:table-fixed"
      data-members
      aria-rowcount={members.length + 1}
    >
      <thead className="sticky top-0 bg-sheet text-muted text-xs">
        <tr className="border-line border-b [&>th]:px-2 [&>th]:py-2 [&>th]:font-medium sm:[&>th]:px-4">
          <th scope="col">Person</th>
          <th scope="col" className="max-sm:w-[28%]">
            Status
          </th>
          <th scope="col" className="max-sm:hidden">
            Here since
          </th>
          <th scope="col" className="text-right max-sm:w-[22%]">
            Sessions
          </th>
          {act && (
            <th scope="col" className="max-sm:w-[22%]">
              <span className="sr-only">Acts</span>
            </th>
          )}
        </tr>
      </thead>
      <tbody>
        {space(from)}
        {members.slice(from, to).map((m, i) => (
          <tr
            key={`${m.user} ${m.since}`}
            data-user={m.user}
            aria-rowindex={from + i + 2}
            className="washed h-[49px] border-line border-b last:border-0 [&>td]:px-2 [&>td]:py-1.5 sm:[&>td]:px-4"
          >
            <td>
              <Person member={m} you={m.user === you} linked={linked} />
            </td>
            <td>
              <StatusMark status={m.status} engaged={m.engaged} label={m.label} />
              {typing.has(m.user) && (
                <span className="ml-2 whitespace-nowrap text-lamp text-xs" data-typing>
                  <TypingMark /> typing
                </span>
              )}
              {m.note && <span className="block max-w-40 truncate text-muted text-xs">{m.note}</span>}
              {m.doing && <Doing of={m.doing} />}
            </td>
            <td className="text-muted max-sm:hidden">
              <Time at={m.since} now={now} />
            </td>
            <td className="text-right" title={sessions(m.sessions)}>
              <SessionTicks n={m.sessions} />
              {kinds && <span className="block text-muted text-xs max-sm:hidden">{kinds(m)}</span>}
            </td>
            {act && <td className="text-right">{act(m)}</td>}
          </tr>
        ))}
        {space(members.length - to)}
      </tbody>
    </table>
  );
}

/** What a member is doing, as the application says it: the fields of an object of its own. */
function Doing({ of }: { of: Readonly<Record<string, unknown>> }) {
  const text = Object.entries(of)
    .map(([name, value]) => `${name} ${typeof value === "object" ? JSON.stringify(value) : value}`)
    .join(", ");
  return (
    <span className="block max-w-48 truncate text-muted text-xs" title={text} data-doing>
      {text}
    </span>
  );
}

/** Three strokes, as on the lanes. */
export function TypingMark() {
  return (
    <svg viewBox="0 0 10 8" className="inline h-2 w-2.5" aria-hidden="true">
      <path d="M1.5 1v6M5 1v6M8.5 1v6" stroke="currentColor" strokeWidth="1.5" />
    </svg>
  );
}

/** A stroke for each session of a person, and their number. */
function SessionTicks({ n }: { n: number }) {
  return (
    <span className="inline-flex items-center gap-2">
      <span aria-hidden="true" className="inline-flex gap-0.5 max-sm:hidden">
        {Array.from({ length: Math.min(n, 6) }, (_, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: strokes are alike
          <span key={i} className="h-3 w-1 rounded-sm bg-water" />
        ))}
      </span>
      <span className="w-4">{n}</span>
    </span>
  );
}
