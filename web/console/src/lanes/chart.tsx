import { useVirtualizer } from "@tanstack/react-virtual";
import { scaleTime } from "d3-scale";
import {
  type KeyboardEvent,
  memo,
  type PointerEvent,
  type ReactNode,
  useEffect,
  useId,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
} from "react";
import { Link } from "wouter";
import { query } from "../api";
import { clock } from "../words";
import { type Mark, markOfTyping, marksOfBar, marksOfStay } from "./evidence";
import { type Bar, type Span, type Stay, tracksOf } from "./lanes";
import type { Window, WindowControls } from "./window";

/** A row of the chart: one person, or one room of a person. */
export interface Row {
  readonly key: string;
  readonly name: string;
  readonly href?: string;
  readonly stays: readonly Stay[];
  readonly bars: readonly Bar[];
  readonly typing?: readonly Span[] | undefined;
}

/** Where times are across a row. */
export type Across = (time: number) => number;

const stayHeight = 9;
const trackHeight = 15;
const padding = 7;

/** The chart's own place in a row: all but the names. */
const columns = "grid grid-cols-[6rem_minmax(0,1fr)] sm:grid-cols-[11rem_minmax(0,1fr)]";

/**
 * Lanes: a row for each person with what others saw of them as a line, and their sessions as bars below it.
 * What is chosen, by pointer or keys, is told in words beneath.
 */
export function LaneChart(props: {
  /** What rows there are; each is made only when it is seen. */
  keys: readonly string[];
  rowOf: (key: string, index: number) => Row;
  controls: WindowControls;
  /** Whether it is known who types. */
  typing?: boolean;
  /** A moment that is pointed out. */
  moment?: number | undefined;
  /** More on the same axis, above the rows. */
  above?: { title: string; height: number; draw: (across: Across, width: number) => ReactNode };
  /** Told which rows are seen. */
  onSeen?: (keys: readonly string[]) => void;
  notice?: string | undefined;
}) {
  const { keys, rowOf, controls } = props;
  const { window, now } = controls;
  const [box, width] = useWidth();
  const hatch = useId();
  const across = useMemo(
    () =>
      scaleTime()
        .domain([window.from, window.to])
        .range([0, Math.max(1, width)]),
    [window.from, window.to, width],
  );
  const [chosen, setChosen] = useState<{ row: string; mark: string }>();
  const scroller = useRef<HTMLDivElement>(null);
  const heights = useRef(new Map<string, number>());
  const virtual = useVirtualizer({
    count: keys.length,
    getScrollElement: () => scroller.current,
    estimateSize: (i) => heights.current.get(keys[i] ?? "") ?? usualHeight,
    getItemKey: (i) => keys[i] ?? i,
    overscan: 4,
  });
  const items = virtual.getVirtualItems();
  const seen = items.map((item) => String(item.key)).join("\n");
  const { onSeen } = props;
  useEffect(() => onSeen?.(seen === "" ? [] : seen.split("\n")), [seen, onSeen]);
  const rows = new Map(items.map((item) => [String(item.key), rowOf(String(item.key), item.index)]));
  useLayoutEffect(() => {
    // Rows grow and shrink with their sessions.
    let changed = false;
    for (const [key, row] of rows) {
      const height = heightOf(row);
      changed ||= (heights.current.get(key) ?? usualHeight) !== height;
      heights.current.set(key, height);
    }
    if (changed) virtual.measure();
  });

  const owner = chosen && keys.includes(chosen.row) ? rowOf(chosen.row, keys.indexOf(chosen.row)) : undefined;
  const mark = marksOf(owner).find((m) => m.key === chosen?.mark);
  const choose = (row: string, mark: string) => setChosen({ row, mark });
  const drag = usePan(controls, width);

  const onKey = (event: KeyboardEvent) => {
    const acted = byKey(event, { keys, rowOf, chosen, controls, choose });
    if (typeof acted === "string") virtual.scrollToIndex(keys.indexOf(acted));
    if (acted) event.preventDefault();
  };

  return (
    <div data-lanes>
      <WindowBar controls={controls} />
      {/* biome-ignore lint/a11y/useSemanticElements: no element of HTML is a chart that takes keys */}
      <div
        role="group"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: the arrow keys choose in it
        tabIndex={0}
        aria-label="Lanes. Arrow keys choose what is told beneath; plus and minus zoom; with shift, arrows move in time."
        onKeyDown={onKey}
        {...drag}
        className="touch-pan-y select-none"
      >
        <svg aria-hidden="true" className="absolute size-0">
          <defs>
            <pattern
              id={hatch}
              width="5"
              height="5"
              patternUnits="userSpaceOnUse"
              patternTransform="rotate(45)"
            >
              <rect width="3" height="5" className="fill-sheet" />
            </pattern>
          </defs>
        </svg>
        <div className={`${columns} border-line border-b`}>
          <span className="px-4 py-1 text-muted text-xs">{window.follows ? "live" : "past"}</span>
          <div ref={box}>
            <Axis across={across} width={width} window={window} />
          </div>
        </div>
        {props.above && (
          <div className={`${columns} border-line border-b`}>
            <span className="self-center truncate px-4 text-muted text-xs">{props.above.title}</span>
            <svg width={width} height={props.above.height} aria-hidden="true" className="block">
              {width > 0 && props.above.draw(across, width)}
            </svg>
          </div>
        )}
        <div ref={scroller} className="max-h-[19rem] overflow-y-auto overflow-x-hidden">
          <div className="relative" style={{ height: virtual.getTotalSize() }}>
            {items.map((item) => {
              const row = rows.get(String(item.key));
              return (
                row && (
                  <div
                    key={item.key}
                    data-lane={row.key}
                    className={`${columns} absolute inset-x-0 border-line border-b`}
                    style={{ height: item.size, transform: `translateY(${item.start}px)` }}
                  >
                    <span className="self-center truncate px-4 text-sm">
                      {row.href ? (
                        <Link href={row.href} className="hover:underline" tabIndex={-1}>
                          {row.name}
                        </Link>
                      ) : (
                        row.name
                      )}
                    </span>
                    <RowMarks
                      row={row}
                      across={across}
                      width={width}
                      height={item.size}
                      now={now}
                      hatch={hatch}
                      chosen={chosen?.row === row.key ? chosen.mark : undefined}
                      moment={props.moment}
                      onChoose={choose}
                    />
                  </div>
                )
              );
            })}
          </div>
          {keys.length === 0 && <p className="p-4 text-muted text-sm">Nobody was here in this time.</p>}
        </div>
      </div>
      <Legend hatch={hatch} typing={props.typing ?? false} />
      <div role="status" data-evidence className="min-h-14 border-line border-t bg-wash/50 px-4 py-2 text-sm">
        {mark && owner ? (
          <>
            <b className="font-semibold">{owner.name}.</b> {mark.says()}{" "}
            {mark.entry && (
              <Link
                href={`/journal${query({ user: mark.entry.user, to: after(mark.entry.at) })}`}
                className="text-water underline underline-offset-2"
              >
                Entry {mark.entry.id} of the journal
              </Link>
            )}
          </>
        ) : (
          <span className="text-muted">
            {props.notice ?? "Point at a bar, or choose one with the arrow keys, for what is known of it."}
          </span>
        )}
      </div>
    </div>
  );
}

/** The first instant after a time, before which the journal ends with what was then. */
function after(at: string): string {
  return new Date(Date.parse(at) + 1).toISOString();
}

const usualHeight = 40;

function heightOf(row: Row): number {
  const tracks = tracksOf(row.bars).length;
  return Math.max(32, 2 * padding + (row.stays.length > 0 ? stayHeight : 0) + tracks * trackHeight);
}

function marksOf(row: Row | undefined): readonly Mark[] {
  if (!row) return [];
  return [
    ...row.stays.flatMap(marksOfStay),
    ...row.bars.flatMap(marksOfBar),
    ...(row.typing ?? []).map((t) => markOfTyping(row.key, t.from, t.to)),
  ].sort((a, b) => a.from - b.from);
}

/** What a key does. It says true when it did something, or the row that was chosen. */
function byKey(
  event: KeyboardEvent,
  on: {
    keys: readonly string[];
    rowOf: (key: string, index: number) => Row;
    chosen: { row: string; mark: string } | undefined;
    controls: WindowControls;
    choose: (row: string, mark: string) => void;
  },
): boolean | string {
  const { keys, chosen, controls, choose } = on;
  const rowAt = (i: number) => {
    const key = keys[i];
    return key === undefined ? undefined : on.rowOf(key, i);
  };
  const at = chosen ? keys.indexOf(chosen.row) : -1;
  const { from, to } = controls.window;
  const forward = event.key === "ArrowRight" || event.key === "ArrowDown";
  switch (event.key) {
    case "+":
    case "=":
      controls.zoom(0.5);
      return true;
    case "-":
      controls.zoom(2);
      return true;
    case "ArrowLeft":
    case "ArrowRight": {
      if (event.shiftKey) {
        controls.pan(forward ? 0.25 : -0.25);
        return true;
      }
      const row = rowAt(Math.max(0, at));
      const marks = marksOf(row).filter((m) => m.from < to && (m.to ?? Number.POSITIVE_INFINITY) >= from);
      const i = marks.findIndex((m) => m.key === chosen?.mark);
      const next = i < 0 ? marks.at(-1) : marks[i + (forward ? 1 : -1)];
      if (row && next) choose(row.key, next.key);
      return true;
    }
    case "ArrowUp":
    case "ArrowDown": {
      const row = rowAt(at < 0 ? 0 : Math.max(0, Math.min(keys.length - 1, at + (forward ? 1 : -1))));
      const last = marksOf(row).at(-1);
      if (!row || !last) return true;
      choose(row.key, last.key);
      return row.key;
    }
  }
  return false;
}

/** The width of an element, as it is now. */
function useWidth(): [(element: HTMLElement | null) => void, number] {
  const [element, setElement] = useState<HTMLElement | null>(null);
  const [width, setWidth] = useState(0);
  useLayoutEffect(() => {
    if (!element) return;
    const observer = new ResizeObserver(() => setWidth(element.clientWidth));
    observer.observe(element);
    return () => observer.disconnect();
  }, [element]);
  return [setElement, width];
}

/** Dragging moves in time; the wheel does with shift or sideways, and zooms with ctrl, as a pinch does. */
function usePan(controls: WindowControls, width: number) {
  const from = useRef<number>(undefined);
  const latest = useRef(controls);
  latest.current = controls;
  const [element, setElement] = useState<HTMLElement | null>(null);
  useEffect(() => {
    if (!element) return;
    const onWheel = (event: WheelEvent) => {
      const { window, zoom, pan } = latest.current;
      const sideways = event.shiftKey ? event.deltaY || event.deltaX : event.deltaX;
      if (event.ctrlKey) {
        const box = element.getBoundingClientRect();
        const part = (event.clientX - (box.right - width)) / width;
        zoom(2 ** (event.deltaY / 300), window.from + part * (window.to - window.from));
      } else if (Math.abs(sideways) > Math.abs(event.shiftKey ? 0 : event.deltaY)) pan(sideways / width);
      else return;
      event.preventDefault();
    };
    // React's own listener could not keep the page from zooming.
    element.addEventListener("wheel", onWheel, { passive: false });
    return () => element.removeEventListener("wheel", onWheel);
  }, [element, width]);
  return {
    ref: setElement,
    onPointerDown(event: PointerEvent) {
      if (event.button === 0 && !(event.target as Element).closest("a")) from.current = event.clientX;
    },
    onPointerMove(event: PointerEvent) {
      if (from.current === undefined || event.buttons === 0) return;
      const moved = event.clientX - from.current;
      if (Math.abs(moved) < 4) return;
      from.current = event.clientX;
      controls.pan(-moved / width);
    },
    onPointerUp() {
      from.current = undefined;
    },
  };
}

const lengths = [
  ["5 min", 5 * 60_000],
  ["15 min", 15 * 60_000],
  ["1 h", 3_600_000],
  ["6 h", 6 * 3_600_000],
  ["1 day", 86_400_000],
] as const;

/** The buttons that choose what time is looked at. */
function WindowBar({ controls }: { controls: WindowControls }) {
  const { window } = controls;
  const length = window.to - window.from;
  const button =
    "rounded border border-line px-2 py-0.5 hover:bg-wash aria-pressed:bg-wash aria-pressed:font-medium";
  return (
    <div className="flex flex-wrap items-center gap-1.5 border-line border-b px-4 py-2 text-xs">
      {lengths.map(([name, ms]) => (
        <button
          key={name}
          type="button"
          className={button}
          aria-pressed={window.follows && Math.abs(length - ms) < 1}
          onClick={() => controls.last(ms)}
        >
          {name}
        </button>
      ))}
      <span className="grow" />
      <button type="button" className={button} aria-label="Earlier" onClick={() => controls.pan(-0.5)}>
        ←
      </button>
      <button type="button" className={button} aria-label="Longer" onClick={() => controls.zoom(2)}>
        −
      </button>
      <button type="button" className={button} aria-label="Closer" onClick={() => controls.zoom(0.5)}>
        +
      </button>
      <button type="button" className={button} aria-label="Later" onClick={() => controls.pan(0.5)}>
        →
      </button>
      {!window.follows && (
        <button type="button" className={button} onClick={() => controls.last(length)}>
          Back to now
        </button>
      )}
    </div>
  );
}

const dayFormat = new Intl.DateTimeFormat([], { day: "numeric", month: "short" });
const minuteFormat = new Intl.DateTimeFormat([], { hour: "2-digit", minute: "2-digit", hour12: false });
const secondFormat = new Intl.DateTimeFormat([], { timeStyle: "medium", hour12: false });

function Axis(props: { across: ReturnType<typeof scaleTime<number>>; width: number; window: Window }) {
  const { across, width } = props;
  const room = 26; // that a label wants on both sides
  const ticks = across
    .ticks(Math.max(2, Math.floor(width / 110)))
    .filter((tick) => across(tick) > room && across(tick) < width - room);
  const short = props.window.to - props.window.from < 600_000;
  const label = (time: Date) =>
    time.getHours() + time.getMinutes() + time.getSeconds() === 0
      ? dayFormat.format(time)
      : (short ? secondFormat : minuteFormat).format(time);
  return (
    <svg width={width} height="24" className="block text-muted" data-axis>
      <title>
        {clock(props.window.from)} to {clock(props.window.to)}
      </title>
      {ticks.map((tick) => (
        <g key={tick.getTime()} transform={`translate(${across(tick)} 0)`}>
          <path d="M0 18v6" stroke="currentColor" />
          <text y="14" textAnchor="middle" fontSize="11" fill="currentColor">
            {label(tick)}
          </text>
        </g>
      ))}
    </svg>
  );
}

interface RowMarksProps {
  row: Row;
  across: Across;
  width: number;
  height: number;
  now: number;
  hatch: string;
  chosen: string | undefined;
  moment: number | undefined;
  onChoose: (row: string, mark: string) => void;
}

/** The marks of a row. */
const RowMarks = memo(function RowMarks(props: RowMarksProps) {
  const { row, across, width, now } = props;
  const x = (time: number) => Math.max(-20, Math.min(width + 20, Number.isFinite(time) ? across(time) : -20));
  const far = (mark: Mark) => x(mark.to ?? now);
  const offTheChart = (mark: Mark) => far(mark) < 0 || x(mark.from) > width;
  const stayTop = padding;
  const barTop = padding + (row.stays.length > 0 ? stayHeight : 0);
  const attributes = (mark: Mark) => ({
    "data-mark": mark.kind,
    "data-reason": mark.reason,
    onPointerEnter: () => props.onChoose(row.key, mark.key),
    onPointerDown: () => props.onChoose(row.key, mark.key),
  });
  const around = (mark: Mark) => (mark.key === props.chosen ? "stroke-ink" : "");
  return (
    <svg width={width} height={props.height} className="block">
      <title>{row.name}</title>
      {props.moment !== undefined && (
        <path d={`M${x(props.moment)} 0v${props.height}`} className="stroke-water" strokeDasharray="2 3" />
      )}
      {row.stays.flatMap(marksOfStay).map((mark) => {
        if (offTheChart(mark)) return null;
        const [from, to] = [x(mark.from), far(mark)];
        if (mark.kind === "stay")
          return (
            <rect
              key={mark.key}
              {...attributes(mark)}
              x={from}
              y={stayTop}
              width={Math.max(1, to - from)}
              height="4"
              className={`fill-water ${around(mark)}`}
            />
          );
        return (
          <path
            key={mark.key}
            {...attributes(mark)}
            d={mark.kind === "joined" ? "m0-2 7 4-7 4z" : "m0-2-7 4 7 4z"}
            transform={`translate(${from} ${stayTop})`}
            className={`fill-water ${around(mark)}`}
          />
        );
      })}
      {tracksOf(row.bars).map((track, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a track is no more than its place
        <g key={i} transform={`translate(0 ${barTop + i * trackHeight})`}>
          {track.flatMap(marksOfBar).map((mark) => {
            if (offTheChart(mark)) return null;
            const [from, to] = [x(mark.from), far(mark)];
            const long = Math.max(1.5, to - from);
            switch (mark.kind) {
              case "live":
                return (
                  <rect
                    key={mark.key}
                    {...attributes(mark)}
                    x={from}
                    y="1"
                    width={long}
                    height="10"
                    className={`fill-reed ${around(mark)}`}
                  />
                );
              case "grace":
                return (
                  <rect
                    key={mark.key}
                    {...attributes(mark)}
                    x={from + 0.75}
                    y="1.75"
                    width={Math.max(1, long - 1.5)}
                    height="8.5"
                    className={`fill-sheet ${mark.key === props.chosen ? "stroke-ink" : "stroke-lamp"}`}
                    strokeWidth="1.5"
                    strokeDasharray="3 2"
                  />
                );
              case "idle":
                return (
                  <rect
                    key={mark.key}
                    {...attributes(mark)}
                    x={from}
                    y="1"
                    width={long}
                    height="10"
                    fill={`url(#${props.hatch})`}
                    className={around(mark)}
                  />
                );
              default:
                return (
                  <g key={mark.key} {...attributes(mark)} transform={`translate(${from} 0)`}>
                    <path
                      d="M0-1v14M-3.5-1h7M-3.5 13h7"
                      className={mark.key === props.chosen ? "stroke-ink" : "stroke-flood"}
                      strokeWidth="2"
                    />
                    <text x="5" y="10" fontSize="10" className="fill-muted">
                      {mark.reason}
                    </text>
                  </g>
                );
            }
          })}
        </g>
      ))}
      {(row.typing ?? []).map((t) => {
        const mark = markOfTyping(row.key, t.from, t.to);
        if (offTheChart(mark)) return null;
        const d = Array.from(
          { length: Math.max(1, Math.floor((far(mark) - x(mark.from)) / 3)) },
          (_, i) => `M${x(mark.from) + 1 + i * 3} ${props.height - 5}v5`,
        ).join("");
        return (
          <path
            key={mark.key}
            {...attributes(mark)}
            d={d}
            strokeWidth="1.5"
            className={mark.key === props.chosen ? "stroke-ink" : "stroke-lamp"}
          />
        );
      })}
    </svg>
  );
});

/** What the marks are, in words. */
function Legend({ hatch, typing }: { hatch: string; typing: boolean }) {
  const item = "inline-flex items-center gap-1.5";
  return (
    <p className="flex flex-wrap gap-x-4 gap-y-1 border-line border-t px-4 py-1.5 text-muted text-xs">
      <span className={item}>
        <svg width="18" height="8" aria-hidden="true">
          <path d="M4 3h10v3H4z" className="fill-water" />
          <path d="m0 0 7 4-7 4z" className="fill-water" />
        </svg>
        in the room, as others see it
      </span>
      <span className={item}>
        <svg width="18" height="10" aria-hidden="true">
          <rect width="18" height="10" className="fill-reed" />
        </svg>
        session with a link
      </span>
      <span className={item}>
        <svg width="18" height="10" aria-hidden="true">
          <rect width="18" height="10" className="fill-reed" />
          <rect width="18" height="10" fill={`url(#${hatch})`} />
        </svg>
        idle
      </span>
      <span className={item}>
        <svg width="18" height="10" aria-hidden="true">
          <rect
            x=".75"
            y=".75"
            width="16.5"
            height="8.5"
            className="fill-sheet stroke-lamp"
            strokeWidth="1.5"
            strokeDasharray="3 2"
          />
        </svg>
        grace
      </span>
      <span className={item}>
        <svg width="9" height="12" aria-hidden="true">
          <path d="M4.5 0v12M1 1h7M1 11h7" className="stroke-flood" strokeWidth="2" />
        </svg>
        ended, and why
      </span>
      {typing && (
        <span className={item}>
          <svg width="12" height="8" aria-hidden="true">
            <path d="M2 1v6M5 1v6M8 1v6" className="stroke-lamp" strokeWidth="1.5" />
          </svg>
          typing, since this page is open
        </span>
      )}
    </p>
  );
}
