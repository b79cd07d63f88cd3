import type { State } from "@client/link";
import type { Room } from "@client/replica";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState } from "react";
import { Link } from "wouter";
import { Curve, type Headcount, pointsOf, useHeadcounts } from "../headcount/curve";
import { type Health, useHealth, wrongWith } from "../health";
import { oncePerFrame, openLink, useNow } from "../live";
import type { SignedIn } from "../operator";
import { Frame, Refused, Sheet } from "../parts/frame";
import { TypingMark } from "../parts/members";
import { StatusMark } from "../parts/status-mark";
import { noteChanges, type Order, ordered, orders, usePinned, useRate, useTypists } from "../rooms";
import { useSorted } from "../sorted";
import { people, sessions } from "../words";

const nameOf = (room: Room) => room.room;
const byName = (a: Room, b: Room) => a.room < b.room;

/** All rooms with their counts, live. */
export function Rooms({ operator, onSignOut }: { operator: SignedIn; onSignOut: () => void }) {
  const [rate, addChanges] = useRate();
  const [state, rooms] = useRooms(operator.rooms ?? ["**"], addChanges);
  const health = useHealth();
  const [pinned, pin] = usePinned();
  const [filter, setFilter] = useState("");
  const [order, setOrder] = useState<Order>("by name");
  const named = useSorted(rooms, nameOf, byName);
  const list = useMemo(() => ordered(named, order, filter, pinned), [named, order, filter, pinned]);
  if (state.word === "refused")
    return (
      <Frame title="Rooms" state={state} onSignOut={onSignOut}>
        <Refused state={state}>
          <button
            type="button"
            onClick={onSignOut}
            className="rounded-md bg-water px-4 py-2 text-paper text-sm"
          >
            Sign in with another key
          </button>
        </Refused>
      </Frame>
    );
  return (
    <Frame title="Rooms" state={state} onSignOut={onSignOut}>
      <Totals rooms={rooms} health={health} rate={rate} />
      <HealthLine state={state} health={health} />
      <div className="flex flex-wrap items-end gap-3 pb-3 text-sm">
        <label className="grid gap-1">
          <span className="text-muted text-xs">Filter</span>
          <input
            type="search"
            value={filter}
            placeholder="basin.* or weir"
            onChange={(event) => setFilter(event.target.value.trim())}
            className="w-52 rounded-md border border-line bg-sheet px-2 py-1.5 placeholder:text-muted/80"
          />
        </label>
        <label className="grid gap-1">
          <span className="text-muted text-xs">Order</span>
          <select
            value={order}
            onChange={(event) => setOrder(event.target.value as Order)}
            className="rounded-md border border-line bg-sheet px-2 py-1.5"
          >
            {Object.keys(orders).map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </label>
        {filter !== "" && (
          <span className="py-1.5 text-muted">
            {list.length} of {rooms.size}
          </span>
        )}
      </div>
      <Sheet>
        {list.length === 0 ? (
          <p className="p-6 text-muted">
            {state.word !== "open"
              ? "Waiting for the service…"
              : rooms.size > 0
                ? "No room matches the filter."
                : "Nobody is in any room. A room appears here as soon as somebody joins it."}
          </p>
        ) : (
          <Rows list={list} pinned={pinned} onPin={pin} />
        )}
      </Sheet>
    </Frame>
  );
}

/** The rooms that match patterns. However many changes there are, the page is drawn once per animation frame. */
function useRooms(
  patterns: readonly string[],
  onChanges: (changes: number) => void,
): [State, ReadonlyMap<string, Room>] {
  const [shown, setShown] = useState<{ state: State; rooms: ReadonlyMap<string, Room> }>({
    state: { word: "connecting" },
    rooms: new Map(),
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: one link for one life of the page
  useEffect(() => {
    const link = openLink(patterns.map((room) => ({ room, detail: "count" })));
    let before: ReadonlyMap<string, Room> = new Map();
    const undo = oncePerFrame(
      () => {
        const { state, rooms } = link.snapshot;
        onChanges(before.size > 0 ? noteChanges(before, rooms) : 0);
        before = rooms;
        setShown({ state, rooms });
      },
      (changed) => link.subscribe(changed),
    );
    return () => {
      undo();
      link.close();
    };
  }, []);
  return [shown.state, shown.rooms];
}

function Totals(props: { rooms: ReadonlyMap<string, Room>; health: Health | undefined; rate: number }) {
  const { rooms, health } = props;
  const known = health?.realm;
  let inRooms = 0;
  for (const room of rooms.values()) inRooms += room.count.sessions;
  return (
    <div className="flex flex-wrap items-baseline gap-x-6 gap-y-1 pb-3">
      <h1 className="font-semibold text-2xl tracking-tight">
        {rooms.size === 1 ? "1 room" : `${rooms.size} rooms`}
      </h1>
      <p className="text-muted text-sm" data-totals>
        {known && `${people(known.people)} · `}
        {sessions(known?.sessions ?? inRooms)}
        {known && ` · ${known.links === 1 ? "1 link" : `${known.links} links`}`}
        {" · "}
        {props.rate.toFixed(1)} changes a second
      </p>
    </div>
  );
}

/** The health of the service, in one line that says what is wrong. */
function HealthLine({ state, health }: { state: State; health: Health | undefined }) {
  if (state.word === "lost") return null; // the frame says it
  const wrong = health ? wrongWith(health) : [];
  if (wrong.length === 0)
    return (
      <p className="flex min-h-7 items-center gap-2 pb-3 text-muted text-sm" role="status" data-health="well">
        {health && (
          <>
            <svg viewBox="0 0 12 12" className="size-3 text-reed" aria-hidden="true">
              <path d="M1 7l3.5 3.5L11 2" fill="none" stroke="currentColor" strokeWidth="2" />
            </svg>
            The service is well: events are recorded, and hooks are delivered.
          </>
        )}
      </p>
    );
  return (
    <p
      role="status"
      data-health="ill"
      data-records={health?.records.status}
      className="mb-3 rounded-md border border-lamp bg-wash px-4 py-2 text-sm"
    >
      <b className="font-semibold">Look: </b>
      {wrong.join(" ")}
    </p>
  );
}

const rowHeight = 60;
const columns =
  "grid grid-cols-1 items-center gap-x-4 sm:grid-cols-[minmax(0,15rem)_minmax(0,1fr)_7rem_6.5rem_9rem]";

/** The list of rooms; only visible ones are drawn. */
function Rows(props: { list: readonly Room[]; pinned: ReadonlySet<string>; onPin: (room: string) => void }) {
  const { list } = props;
  const scroller = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: list.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 6,
    getItemKey: (i) => list[i]?.room ?? i,
  });
  const items = virtual.getVirtualItems();
  const shown = items.flatMap((item) => list[item.index] ?? []);
  const typists = useTypists(shown);
  const hours = useLastHours(shown);
  return (
    <>
      <div
        aria-hidden="true"
        className={`${columns} hidden border-line border-b py-2 pr-4 pl-12 font-medium text-muted text-xs sm:grid`}
      >
        <span>Room</span>
        <span>People</span>
        <span className="text-right">Sessions</span>
        <span className="text-right">Last hour</span>
        <span className="text-right">Joined and left</span>
      </div>
      <div ref={scroller} className="max-h-[calc(100vh-16rem)] min-h-80 overflow-y-auto">
        <ul className="relative" style={{ height: virtual.getTotalSize() }} data-rooms>
          {items.map((item) => {
            const room = list[item.index];
            return (
              room && (
                <li
                  key={item.key}
                  data-room={room.room}
                  className="absolute inset-x-0 flex items-center border-line border-b"
                  style={{ height: item.size, transform: `translateY(${item.start}px)` }}
                >
                  <Pin on={props.pinned.has(room.room)} room={room.room} onPin={props.onPin} />
                  <BoardRow room={room} typing={typists.get(room.room)} steps={hours.get(room.room)} />
                </li>
              )
            );
          })}
        </ul>
      </div>
    </>
  );
}

function Pin({ on, room, onPin }: { on: boolean; room: string; onPin: (room: string) => void }) {
  return (
    <button
      type="button"
      aria-pressed={on}
      aria-label={`Pin ${room}`}
      onClick={() => onPin(room)}
      className={`ml-2 grid size-9 shrink-0 place-items-center rounded hover:bg-wash ${on ? "text-water" : "text-muted"}`}
    >
      <svg viewBox="0 0 12 16" className="h-4 w-3" aria-hidden="true">
        <path
          d="M2 1h8v13l-4-3.5L2 14z"
          fill={on ? "currentColor" : "none"}
          stroke="currentColor"
          strokeWidth="1.5"
        />
      </svg>
    </button>
  );
}

/** A room: its people by status, who is typing, and the last hour. */
function BoardRow(props: {
  room: Room;
  typing: readonly string[] | undefined;
  steps: readonly Headcount[] | undefined;
}) {
  const { room, typing } = props;
  const { count } = room;
  return (
    <Link href={`/rooms/${room.room}`} className={`${columns} h-full grow py-1.5 pr-4 pl-1 hover:bg-wash/60`}>
      <span className="flex min-w-0 items-baseline gap-x-3 sm:block">
        <RoomName name={room.room} />
        {typing && (
          <span className="block min-w-0 truncate text-lamp text-xs" data-typing={typing.length}>
            <TypingMark /> {typing.slice(0, 2).join(", ")}
            {typing.length > 2 && ` and ${typing.length - 2} more`} {typing.length === 1 ? "is" : "are"}{" "}
            typing
          </span>
        )}
      </span>
      <span
        key={`${count.people}`}
        className="washed flex items-baseline gap-x-3 overflow-hidden whitespace-nowrap rounded-md text-muted text-sm sm:flex-wrap sm:px-2 sm:py-0.5"
      >
        <span>
          <b className="font-semibold text-base text-ink sm:text-lg">{count.people}</b>{" "}
          {count.people === 1 ? "person" : "people"}
        </span>
        {(["online", "away", "busy"] as const).map(
          (status) =>
            count[status].people > 0 && (
              <StatusMark key={status} status={status} label={`${count[status].people} ${status}`} />
            ),
        )}
      </span>
      <span className="hidden text-right text-muted text-sm sm:block">{sessions(count.sessions)}</span>
      <LastHour room={room} steps={props.steps} />
    </Link>
  );
}

/** A room's name; its last word distinguishes it from its neighbours. */
function RoomName({ name }: { name: string }) {
  const cut = name.lastIndexOf(".") + 1;
  return (
    <span className="block shrink-0 truncate font-mono text-sm sm:shrink">
      <span className="text-muted">{name.slice(0, cut)}</span>
      {name.slice(cut)}
    </span>
  );
}

const hour = 3_600_000;
const minute = 60_000;

/** The current time, updated once a minute. */
function useMinute(): number {
  return useNow(minute);
}

/** The headcounts of the last hour in visible rooms, once they have been visible for a moment. */
function useLastHours(rooms: readonly Room[]): ReadonlyMap<string, readonly Headcount[]> {
  const wanted = rooms
    .slice(0, mostCharts)
    .map((room) => room.room)
    .join(" ");
  const [names, setNames] = useState<readonly string[]>([]);
  useEffect(() => {
    const timer = setTimeout(() => setNames(wanted === "" ? [] : wanted.split(" ")), 200);
    return () => clearTimeout(timer);
  }, [wanted]);
  return useHeadcounts(names, "minute", hour);
}

/** As many rooms as one stream of headcounts may have. */
const mostCharts = 100;

/** The number of people in the last hour as a line, and how many joined and left. */
function LastHour({ room, steps }: { room: Room; steps: readonly Headcount[] | undefined }) {
  const now = useMinute();
  const { points, across, up, joined, left } = useMemo(() => {
    const points = pointsOf(steps ?? [], "minute", { at: now, people: room.count.people });
    const most = Math.max(1, ...points.map((p) => p.max));
    return {
      points,
      across: (time: number) => ((time - now + hour) / hour) * 100,
      up: (n: number) => 23 - (n / most) * 21,
      joined: (steps ?? []).reduce((sum, s) => sum + s.joins, 0),
      left: (steps ?? []).reduce((sum, s) => sum + s.leaves, 0),
    };
  }, [steps, now, room.count.people]);
  return (
    <>
      <svg
        viewBox="0 0 100 24"
        className="hidden h-6 w-full sm:block"
        preserveAspectRatio="none"
        aria-hidden="true"
      >
        <path d="M0 23.5h100" className="stroke-line" />
        <Curve points={points} across={across} up={up} band={false} />
      </svg>
      <span className="hidden text-right text-muted text-xs sm:block" data-churn>
        {steps ? `${joined} joined · ${left} left` : ""}
      </span>
    </>
  );
}
