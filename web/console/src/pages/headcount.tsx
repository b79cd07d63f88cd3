import { useQuery } from "@tanstack/react-query";
import { scaleLinear, scaleTime } from "d3-scale";
import { useId, useMemo, useRef } from "react";
import { useSearchParams } from "wouter";
import { ask, query } from "../api";
import {
  Curve,
  type Headcount,
  pointsOf,
  type Step,
  stepFor,
  stepLength,
  useHeadcounts,
} from "../headcount/curve";
import { download, pictureOf } from "../headcount/picture";
import { server, useNow } from "../live";
import { Frame, Sheet } from "../parts/frame";
import { Table } from "../parts/table";
import { exact, people } from "../words";

const spans = {
  "15 min": 900_000,
  "1 h": 3_600_000,
  "6 h": 6 * 3_600_000,
  "24 h": 86_400_000,
  "7 days": 7 * 86_400_000,
  "4 weeks": 28 * 86_400_000,
} as const;

type SpanName = keyof typeof spans;

/** Curves differ by their dashes as well as their colours. */
const strokes = [
  ["text-water", undefined],
  ["text-lamp", "7 3"],
  ["text-flood", "2 3"],
  ["text-reed", "9 3 2 3"],
] as const;

const whole = "";

/** Headcounts over hours, days and weeks, of the realm or of several rooms. */
export function HeadcountPage({ whole: mayWhole, onSignOut }: { whole: boolean; onSignOut: () => void }) {
  const [search, setSearch] = useSearchParams();
  const named = search.getAll("room");
  const rooms = named.length > 0 ? named : mayWhole ? [whole] : [];
  const name = (search.get("span") ?? "1 h") as SpanName;
  const span = spans[name] ?? spans["1 h"];
  const step = stepFor(span);
  const change = (edit: (next: URLSearchParams) => void) =>
    setSearch((now) => {
      const next = new URLSearchParams(now);
      edit(next);
      return next;
    });
  const choose = (list: readonly string[]) =>
    change((next) => {
      next.delete("room");
      for (const room of list) next.append("room", room);
    });
  return (
    <Frame title="Headcount" onSignOut={onSignOut}>
      <h1 className="pb-3 font-semibold text-2xl tracking-tight">Headcount</h1>
      <div className="flex flex-wrap items-end gap-3 pb-4 text-sm">
        <fieldset className="flex flex-wrap gap-1">
          <legend className="pb-1 text-muted text-xs">Time</legend>
          {Object.keys(spans).map((one) => (
            <button
              key={one}
              type="button"
              aria-pressed={one === name}
              onClick={() => change((next) => next.set("span", one))}
              className="rounded border border-line px-2.5 py-1 hover:bg-wash aria-pressed:bg-wash aria-pressed:font-medium"
            >
              {one}
            </button>
          ))}
        </fieldset>
        <AddRoom rooms={rooms.filter((room) => room !== whole)} onChoose={choose} />
      </div>
      <Comparison
        key={rooms.join(" ")}
        rooms={rooms}
        span={span}
        step={step}
        onChoose={choose}
        mayWhole={mayWhole}
      />
    </Frame>
  );
}

/** Adds a room to the comparison, up to the number of distinguishable curves. */
function AddRoom({
  rooms,
  onChoose,
}: {
  rooms: readonly string[];
  onChoose: (rooms: readonly string[]) => void;
}) {
  const list = useId();
  const known = useQuery({
    queryKey: ["room-names"],
    queryFn: () => ask<{ rooms: readonly { room: string }[] }>("/v1/rooms?limit=1000"),
  });
  if (rooms.length >= strokes.length) return null;
  const add = (input: HTMLInputElement) => {
    const room = input.value.trim();
    if (room === "" || rooms.includes(room)) return;
    input.value = "";
    onChoose([...rooms, room]);
  };
  return (
    <label className="grid gap-1">
      <span className="text-muted text-xs">
        {rooms.length === 0 ? "A room instead of the whole realm" : "Compare with another room"}
      </span>
      <input
        list={list}
        placeholder="basin.upper-weir"
        onChange={(event) =>
          known.data?.rooms.some((room) => room.room === event.target.value) && add(event.currentTarget)
        }
        onKeyDown={(event) => event.key === "Enter" && add(event.currentTarget)}
        className="w-56 rounded-md border border-line bg-sheet px-2 py-1.5 placeholder:text-muted/80"
      />
      <datalist id={list}>
        {known.data?.rooms.map((room) => (
          <option key={room.room} value={room.room} />
        ))}
      </datalist>
    </label>
  );
}

const size = { width: 1080, height: 320, left: 44, bottom: 26, top: 20, right: 12 };

function Comparison(props: {
  rooms: readonly string[];
  span: number;
  step: Step;
  mayWhole: boolean;
  onChoose: (rooms: readonly string[]) => void;
}) {
  const { rooms, span, step } = props;
  const now = useNow(10_000);
  const from = Math.floor((now - span) / stepLength[step]) * stepLength[step];
  const counted = useHeadcounts(rooms, step, span);
  const picture = useRef<SVGSVGElement>(null);
  const series = rooms.map((room) => counted.get(room) ?? []);
  const most = Math.max(1, ...series.flatMap((steps) => steps.map((s) => s.people.max)));
  const across = useMemo(
    () =>
      scaleTime()
        .domain([from, now])
        .range([size.left, size.width - size.right]),
    [from, now],
  );
  const up = scaleLinear()
    .domain([0, most])
    .nice()
    .range([size.height - size.bottom, size.top]);
  const nameOf = (room: string) => (room === whole ? "the whole realm" : room);
  if (rooms.length === 0) return <p className="text-muted">Choose a room.</p>;
  return (
    <div className="space-y-5">
      <Sheet
        title={`People on average, ${step} by ${step}${rooms.length === 1 ? "; the band is from the least to the most" : ""}`}
      >
        <svg
          ref={picture}
          viewBox={`0 0 ${size.width} ${size.height}`}
          className="block w-full text-ink"
          role="img"
          aria-label={`People in ${rooms.map(nameOf).join(", ")}; the numbers are in the table below`}
          data-headcount={series.map((s) => s.length).join(" ")}
        >
          {up
            .ticks(5)
            .filter(Number.isInteger)
            .map((tick) => (
              <g key={tick} transform={`translate(0 ${up(tick)})`}>
                <path d={`M${size.left} 0H${size.width - size.right}`} className="stroke-line" />
                <text x={size.left - 8} y="4" textAnchor="end" fontSize="12" className="fill-muted">
                  {tick}
                </text>
              </g>
            ))}
          {across.ticks(8).map((tick) => (
            <text
              key={tick.getTime()}
              x={across(tick)}
              y={size.height - 8}
              textAnchor="middle"
              fontSize="12"
              className="fill-muted"
            >
              {label(tick, span)}
            </text>
          ))}
          {series.map((steps, i) => (
            <g key={rooms[i]} strokeDasharray={strokes[i]?.[1]}>
              <Curve
                points={pointsOf(steps, step)}
                across={across}
                up={up}
                className={strokes[i]?.[0] ?? ""}
                band={series.length === 1}
              />
              <Peak of={peakOf(steps)} across={across} up={up} className={strokes[i]?.[0] ?? ""} />
            </g>
          ))}
        </svg>
        <div className="flex flex-wrap items-center gap-x-5 gap-y-2 border-line border-t px-4 py-2 text-sm">
          {rooms.map((room, i) => (
            <span key={room} className="inline-flex items-center gap-2">
              <svg width="26" height="4" className={strokes[i]?.[0]} aria-hidden="true">
                <path d="M0 2h26" stroke="currentColor" strokeWidth="3" strokeDasharray={strokes[i]?.[1]} />
              </svg>
              {nameOf(room)}
              {(rooms.length > 1 || (room !== whole && props.mayWhole)) && (
                <button
                  type="button"
                  aria-label={`Without ${nameOf(room)}`}
                  onClick={() => props.onChoose(rooms.filter((r) => r !== room))}
                  className="rounded px-1.5 text-muted hover:bg-wash"
                >
                  ×
                </button>
              )}
            </span>
          ))}
          <span className="grow" />
          <span className="text-muted text-xs">
            Export{" "}
            <button
              type="button"
              className="text-water underline underline-offset-2"
              onClick={() =>
                picture.current && download("headcount.svg", "image/svg+xml", pictureOf(picture.current))
              }
            >
              picture
            </button>
            {rooms.map((room) => (
              <span key={room}>
                {" · "}
                <a
                  className="text-water underline underline-offset-2"
                  download={`headcount${room && `-${room}`}.csv`}
                  href={`${server}/v1/headcount${query({ room, step, from: new Date(from).toISOString(), format: "csv" })}`}
                >
                  {room ? `${room} as CSV` : "data as CSV"}
                </a>
              </span>
            ))}
          </span>
        </div>
      </Sheet>
      <Sheet title="In numbers">
        <Table
          heads={["Room", "Most at once", "When", "On average", "Different people", "Joined", "Left"]}
          marker="numbers"
        >
          {series.map((steps, i) => (
            <Numbers
              key={rooms[i]}
              name={nameOf(rooms[i] ?? "")}
              room={rooms[i] ?? ""}
              steps={steps}
              from={from}
              span={span}
            />
          ))}
        </Table>
      </Sheet>
    </div>
  );
}

/** The first step with the maximum. */
function peakOf(steps: readonly Headcount[]): Headcount | undefined {
  return steps.reduce<Headcount | undefined>(
    (most, s) => (most && most.people.max >= s.people.max ? most : s),
    undefined,
  );
}

/** Marks the maximum. */
function Peak(props: {
  of: Headcount | undefined;
  across: (time: number) => number;
  up: (count: number) => number;
  className: string;
}) {
  if (!props.of || props.of.people.max === 0) return null;
  const { people, peak_at } = props.of;
  return (
    <g
      transform={`translate(${props.across(Date.parse(peak_at))} ${props.up(people.max)})`}
      className={props.className}
      strokeDasharray="none"
    >
      <path d="m0 0 4-7h-8z" fill="currentColor" />
      <text x="7" y="-1" fontSize="11" fill="currentColor">
        {people.max}
      </text>
    </g>
  );
}

function label(time: Date, span: number): string {
  if (span <= spans["24 h"])
    return time.toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", hour12: false });
  return time.toLocaleDateString([], {
    weekday: span <= spans["7 days"] ? "short" : undefined,
    day: "numeric",
    month: "short",
  } as Intl.DateTimeFormatOptions);
}

/** The numbers of one room. Distinct people cannot be added up over steps, so they come from the attendance. */
function Numbers(props: {
  name: string;
  room: string;
  steps: readonly Headcount[];
  from: number;
  span: number;
}) {
  const { steps, room } = props;
  const joins = steps.reduce((total, s) => total + s.joins, 0);
  const stays = useQuery({
    queryKey: ["distinct", room, props.span, joins], // only a join adds somebody
    queryFn: () =>
      ask<{ stays: readonly { user: string }[] }>(
        `/v1/attendance${query({ room, from: new Date(props.from).toISOString() })}`,
      ),
    placeholderData: (before) => before,
  });
  const peak = peakOf(steps);
  const measured = steps.reduce((sum, s) => sum + s.measured, 0);
  const mean = measured > 0 ? steps.reduce((sum, s) => sum + s.people.mean * s.measured, 0) / measured : 0;
  const sum = (of: (s: Headcount) => number) => steps.reduce((total, s) => total + of(s), 0);
  return (
    <tr>
      <td className="font-mono">{props.name}</td>
      <td>{peak ? people(peak.people.max) : "nobody"}</td>
      <td className="text-muted">{peak ? exact(peak.peak_at) : ""}</td>
      <td>{mean.toFixed(1)}</td>
      <td>{stays.data ? new Set(stays.data.stays.map((s) => s.user)).size : "…"}</td>
      <td>{joins}</td>
      <td>{sum((s) => s.leaves)}</td>
    </tr>
  );
}
