import type { Room } from "@client/replica";
import { useEffect } from "react";
import { Link } from "wouter";
import { useWatch } from "../live";
import { Frame, Refused, Sheet } from "../parts/frame";
import { RecordsNotice } from "../parts/records";
import { people, sessions } from "../words";

/** All rooms with their counts, live. */
export function Board({ patterns, onSignOut }: { patterns: readonly string[]; onSignOut: () => void }) {
  const [{ state, rooms }] = useWatch(patterns.map((room) => ({ room, detail: "count" })));
  const list = [...rooms.values()].sort((a, b) => a.room.localeCompare(b.room));
  useEffect(() => {
    document.title = "Rooms · Tovik";
  }, []);
  return (
    <Frame state={state} onSignOut={onSignOut}>
      {state.word === "refused" ? (
        <Refused state={state}>
          <button
            type="button"
            onClick={onSignOut}
            className="rounded-md bg-water px-4 py-2 text-paper text-sm"
          >
            Sign in with another key
          </button>
        </Refused>
      ) : (
        <>
          <Totals rooms={list} />
          <RecordsNotice />
          <Sheet>
            {list.length === 0 ? (
              <p className="p-6 text-muted">
                {state.word === "open"
                  ? "Nobody is in any room. A room appears here as soon as somebody joins it."
                  : "Waiting for the service…"}
              </p>
            ) : (
              <ul className={`divide-y divide-line ${state.word === "open" ? "" : "opacity-60"}`} data-board>
                {list.map((room) => (
                  <BoardRow key={room.room} room={room} />
                ))}
              </ul>
            )}
          </Sheet>
        </>
      )}
    </Frame>
  );
}

function Totals({ rooms }: { rooms: readonly Room[] }) {
  const inRooms = rooms.reduce((sum, r) => sum + r.count.sessions, 0);
  return (
    <div className="flex flex-wrap items-baseline gap-x-6 gap-y-1 pb-4">
      <h1 className="font-semibold text-2xl tracking-tight">
        {rooms.length === 1 ? "1 room" : `${rooms.length} rooms`}
      </h1>
      <p className="text-muted text-sm">{sessions(inRooms)} in them</p>
    </div>
  );
}

/** A room with a stroke for each person: taller strokes are tens. */
function BoardRow({ room }: { room: Room }) {
  const { count } = room;
  return (
    <li data-room={room.room}>
      <Link
        href={`/rooms/${room.room}`}
        className="grid grid-cols-[minmax(0,16rem)_minmax(0,1fr)_auto] items-center gap-5 px-4 py-3.5 hover:bg-wash/60"
      >
        <RoomName name={room.room} />
        <Strokes n={count.people} />
        <span
          key={`${count.people} ${count.sessions}`}
          className="washed grid grid-cols-[6.5rem_6.5rem] items-baseline rounded-md px-2 py-0.5 text-right text-muted text-sm"
        >
          <span>
            <b className="font-semibold text-ink text-lg">{count.people}</b>{" "}
            {count.people === 1 ? "person" : "people"}
          </span>
          <span>{sessions(count.sessions)}</span>
        </span>
      </Link>
    </li>
  );
}

/** The last word of a room's name is what tells it from its neighbours. */
function RoomName({ name }: { name: string }) {
  const cut = name.lastIndexOf(".") + 1;
  return (
    <span className="truncate font-mono text-sm">
      <span className="text-muted">{name.slice(0, cut)}</span>
      {name.slice(cut)}
    </span>
  );
}

function Strokes({ n }: { n: number }) {
  const tens = n > 40 ? Math.floor(n / 10) : 0;
  const ones = n - tens * 10;
  return (
    <span aria-hidden="true" title={people(n)} className="flex h-6 items-center gap-1 overflow-hidden">
      {Array.from({ length: Math.min(tens, 60) }, (_, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: strokes are alike
        <span key={`t${i}`} className="h-6 w-2 shrink-0 rounded-sm bg-water" />
      ))}
      {Array.from({ length: ones }, (_, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: strokes are alike
        <span key={`o${i}`} className="h-4 w-2 shrink-0 rounded-sm bg-reed" />
      ))}
    </span>
  );
}
