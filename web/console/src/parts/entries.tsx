import { memo, useState } from "react";
import { Link } from "wouter";
import { type Entry, type JournalLine, query } from "../api";
import { useNames } from "../names";
import { outcomes } from "../service-words";
import { clock, exact, lasting, whyLeft } from "../words";

/** Journal entries, in the given order. */
export function Entries({ entries, about }: { entries: readonly Entry[]; about?: "user" }) {
  const nameOf = useNames(about === "user" ? [] : entries.flatMap(({ user }) => user ?? []));
  if (entries.length === 0) return <p className="p-4 text-muted text-sm">No entry matches.</p>;
  return (
    <ol className="divide-y divide-line text-sm" data-entries>
      {entries.map((entry) => (
        <EntryLine
          key={entry.id}
          entry={entry}
          about={about}
          name={entry.user === undefined ? undefined : nameOf(entry.user)}
        />
      ))}
    </ol>
  );
}

/** Lines of the journal, in the given order. A line opens to show its entries. */
export function Lines({ lines }: { lines: readonly JournalLine[] }) {
  if (lines.length === 0) return <p className="p-4 text-muted text-sm">No entry matches.</p>;
  return (
    <ol className="divide-y divide-line text-sm" data-lines>
      {lines.map((line) => (
        <CauseLine key={line.id} line={line} />
      ))}
    </ol>
  );
}

const CauseLine = memo(function CauseLine({ line }: { line: JournalLine }) {
  const [open, setOpen] = useState(false);
  const newest = line.entries.at(-1);
  return (
    <li data-line={line.id} className="washed">
      <div className="grid grid-cols-[5.5rem_minmax(0,1fr)_auto] gap-x-3 px-4 py-2">
        {newest && <Moment entry={line.room ? { ...newest, room: line.room } : newest} />}
        <p className="min-w-0 break-words">
          {line.user && (
            <>
              <PersonLink user={line.user} name={line.name} />{" "}
            </>
          )}
          <RoomsLinked text={line.text} entries={line.entries} />
          {line.entries.some((entry) => entry.hidden) && (
            <span className="text-muted"> · hidden from others</span>
          )}
        </p>
        {line.entries.length > 1 && (
          <button
            type="button"
            aria-expanded={open}
            onClick={() => setOpen(!open)}
            className="self-start whitespace-nowrap rounded px-1.5 text-muted text-xs hover:bg-wash"
          >
            {line.entries.length} entries {open ? "▴" : "▾"}
          </button>
        )}
      </div>
      {open && (
        <div className="border-line border-t bg-wash/50 pl-8">
          <Entries entries={line.entries} about="user" />
        </div>
      )}
    </li>
  );
});

/** A text in which the names of the entries' rooms are links. */
function RoomsLinked({ text, entries }: { text: string; entries: readonly Entry[] }) {
  const rooms = new Set(entries.flatMap(({ room }) => room ?? []));
  const words = text.split(" ").map((word, at) => ({ word, at, bare: word.replace(/[,:;]$/, "") }));
  return words.map(({ word, at, bare }) => (
    <span key={at}>
      {at > 0 && " "}
      {rooms.has(bare) ? (
        <>
          <Link
            href={`/rooms/${bare}`}
            className="font-mono text-water text-xs underline decoration-1 underline-offset-2 hover:decoration-current"
          >
            {bare}
          </Link>
          {word.slice(bare.length)}
        </>
      ) : (
        word
      )}
    </span>
  ));
}

/** An entry about a person, with their name, if it is known, and id. */
const EntryLine = memo(function EntryLine(props: {
  entry: Entry;
  about?: "user" | undefined;
  name: string | undefined;
}) {
  const { entry, about } = props;
  const [before, after] = what(entry);
  return (
    <li data-kind={entry.kind} className="washed grid grid-cols-[5.5rem_minmax(0,1fr)] gap-x-3 px-4 py-2">
      <Moment entry={entry} />
      <p className="min-w-0 break-words">
        {entry.user && about !== "user" && (
          <>
            <PersonLink user={entry.user} name={props.name} />{" "}
          </>
        )}
        {before}
        {entry.room && (
          <>
            {" "}
            <Link
              href={`/rooms/${entry.room}`}
              className="font-mono text-water text-xs underline decoration-1 underline-offset-2 hover:decoration-current"
            >
              {entry.room}
            </Link>
          </>
        )}
        {after}
        {entry.note && <span className="text-muted"> ({entry.note})</span>}
        {entry.hidden && <span className="text-muted"> · hidden from others</span>}
      </p>
    </li>
  );
});

/** The time, as a link to the lanes at that moment. */
function Moment({ entry }: { entry: Entry }) {
  const time = (
    <time dateTime={entry.at} title={exact(entry.at)}>
      {clock(entry.at)}
    </time>
  );
  const place = entry.room
    ? `/rooms/${entry.room}`
    : entry.user && `/people/${encodeURIComponent(entry.user)}`;
  if (!place) return <span className="text-muted">{time}</span>;
  return (
    <Link
      href={`${place}${query({ at: entry.at })}`}
      aria-label={`${clock(entry.at)}: the lanes at that moment`}
      className="text-muted underline decoration-dotted underline-offset-2 hover:decoration-solid"
    >
      {time}
    </Link>
  );
}

/** A person's name as a link to their page, with their id; without a name, the id is the link. */
export function PersonLink({ user, name }: { user: string; name?: string | undefined }) {
  return (
    <>
      <Link
        href={`/people/${encodeURIComponent(user)}`}
        className="font-medium text-water underline decoration-1 underline-offset-2 hover:decoration-current"
      >
        {name ?? user}
      </Link>
      {name && <span className="font-mono text-muted text-xs"> {user}</span>}
    </>
  );
}

const losses: Record<string, string> = {
  closing: "closed or reloaded a page",
  lost: "lost the link of a session",
  silent: "stopped answering on a session",
  expired: "let a token expire",
};

/** The event as the rest of a sentence about a person: the parts before and after the room. */
function what(entry: Entry): [before: string, after?: string] {
  const took = lasting(entry.length ?? 0);
  const because = entry.reason ? `: ${whyLeft(entry.reason)}` : "";
  switch (entry.kind) {
    case "session.opened":
      return [
        `opened a session over ${entry.over}${entry.reason ? `; the earlier one ${notResumed[entry.reason] ?? entry.reason}` : ""}`,
      ];
    case "session.lost":
      return [`${losses[entry.reason ?? ""] ?? "lost a session's link"}; its grace has begun`];
    case "session.resumed":
      return [`is back after ${took}, which others did not notice`];
    case "session.ended":
      return [`closed a session after ${took}${because}`];
    case "session.idle":
      return [`went idle on a session, after ${took} without input`];
    case "session.active":
      return [`is active on a session again, after ${took} without input`];
    case "session.joined":
      return ["opened another page in"];
    case "session.left":
      return ["left, on one of several pages,", because];
    case "member.joined":
      return ["joined"];
    case "member.left":
      return ["left", ` after ${took}${because}`];
    case "status.changed":
      return [
        entry.was === entry.status ? `is still ${entry.status}` : `was ${entry.was} and is ${entry.status}`,
      ];
    case "person.removed":
      return [entry.room ? "was removed from" : "was removed"];
    case "engaged.began":
      return ["is engaged by"];
    case "engaged.ended":
      return ["is no longer engaged by", ` after ${took}`];
    case "ask.opened":
      return ["asks to be let into"];
    case "ask.answered":
      return ["asked to be let into", `; the ask ${outcomes[entry.reason ?? ""] ?? entry.reason}`];
    case "invitation.opened":
      return [`invites ${entry.other} into`];
    case "invitation.answered":
      return [
        `invited ${entry.other} into`,
        `; the invitation ${outcomes[entry.reason ?? ""] ?? entry.reason} after ${took}`,
      ];
    case "service.started":
      return [
        entry.reason === "crash" ? `The service started after a crash, ${took} later` : "The service started",
      ];
    case "service.stopped":
      return ["The service stopped"];
    case "service.suspended":
      return [`The machine stood still for ${took}; all deadlines moved by that`];
    case "journal.gap":
      return [`${entry.lost} ${entry.lost === 1 ? "entry" : "entries"} could not be written`];
  }
  const by = entry.by ? ` with the key ${entry.by}` : "";
  return [`${(entry.kind ?? "").replaceAll(/[.-]/g, " ")}${by}`];
}

/** Why a session was not resumed. */
const notResumed: Record<string, string> = {
  unknown: "had ended",
  "in-use": "is open in another tab",
};
