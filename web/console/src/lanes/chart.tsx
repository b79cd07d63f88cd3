import { useVirtualizer } from "@tanstack/react-virtual";
import { scaleTime } from "d3-scale";
import {
  type KeyboardEvent,
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
import { Axis } from "./axis";
import { usePan } from "./pan";
import { type Across, heightOf, Legend, marksOf, type Row, RowMarks } from "./row-marks";
import type { WindowControls } from "./window";
import { WindowBar } from "./window-bar";

/** The area of the chart in a row: everything but the names. */
const columns = "grid grid-cols-[6rem_minmax(0,1fr)] sm:grid-cols-[11rem_minmax(0,1fr)]";

/**
 * Lanes: each person has a row with a line for what others saw of them, and their sessions as bars below. Whatever is
 * selected, by pointer or keys, is described below the chart.
 */
export function LaneChart(props: {
  /** The rows; each is made only when it is visible. */
  keys: readonly string[];
  rowOf: (key: string, index: number) => Row;
  controls: WindowControls;
  /** Whether the chart is of one room. */
  room?: boolean;
  /** A moment to mark. */
  moment?: number | undefined;
  /** Content on the same axis, above the rows. */
  above?: { title: string; height: number; draw: (across: Across, width: number) => ReactNode };
  /** Called with the visible rows. */
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
        aria-label="Lanes. Arrow keys select an item, which is described below; plus and minus zoom; with shift, arrows move in time."
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
      <Legend hatch={hatch} room={props.room ?? false} />
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
            {props.notice ?? "Point at a bar, or select one with the arrow keys, to see its details."}
          </span>
        )}
      </div>
    </div>
  );
}

/** The first instant after a time: the journal before it includes what happened then. */
function after(at: string): string {
  return new Date(Date.parse(at) + 1).toISOString();
}

const usualHeight = 40;

/** Handles a key. Returns true if it did something, or the selected row. */
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

/** The current width of an element. */
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
