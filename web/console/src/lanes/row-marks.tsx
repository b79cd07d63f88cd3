import { memo } from "react";
import { type Mark, markOfTyping, marksOfBar, marksOfStay } from "./evidence";
import { type Bar, type Span, type Stay, tracksOf } from "./lanes";

/** A row of the chart: one person, or one room of a person. */
export interface Row {
  readonly key: string;
  readonly name: string;
  readonly href?: string;
  readonly stays: readonly Stay[];
  readonly bars: readonly Bar[];
  /** For sessions that were not in the room of the chart. */
  readonly elsewhere?: readonly Span[] | undefined;
  readonly typing?: readonly Span[] | undefined;
}

/** The horizontal position of times in a row. */
export type Across = (time: number) => number;

const stayHeight = 9;
const trackHeight = 15;
const padding = 7;

/** The height of a row. */
export function heightOf(row: Row): number {
  const tracks = tracksOf(row.bars).length;
  return Math.max(32, 2 * padding + (row.stays.length > 0 ? stayHeight : 0) + tracks * trackHeight);
}

/** What can be selected in a row, in order of time. */
export function marksOf(row: Row | undefined): readonly Mark[] {
  if (!row) return [];
  return [
    ...row.stays.flatMap(marksOfStay),
    ...row.bars.flatMap(marksOfBar),
    ...(row.typing ?? []).map((t) => markOfTyping(row.key, t.from, t.to)),
  ].sort((a, b) => a.from - b.from);
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
export const RowMarks = memo(function RowMarks(props: RowMarksProps) {
  const { row, across, width, now } = props;
  const x = (time: number) => Math.max(-20, Math.min(width + 20, Number.isFinite(time) ? across(time) : -20));
  const far = (span: Span) => x(span.to ?? now);
  const offTheChart = (span: Span) => far(span) < 0 || x(span.from) > width;
  const barTop = padding + (row.stays.length > 0 ? stayHeight : 0);
  const tracks = tracksOf(row.bars);
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
              y={padding}
              width={Math.max(1, to - from)}
              height="4"
              data-engaged={mark.engaged}
              className={`${mark.engaged ? "fill-heather" : "fill-water"} ${around(mark)}`}
            />
          );
        return (
          <path
            key={mark.key}
            {...attributes(mark)}
            d={mark.kind === "joined" ? "m0-2 7 4-7 4z" : "m0-2-7 4 7 4z"}
            transform={`translate(${from} ${padding})`}
            className={`fill-water ${around(mark)}`}
          />
        );
      })}
      {tracks.map((track, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a track is no more than its place
        <g key={i} transform={`translate(0 ${barTop + i * trackHeight})`}>
          {track.flatMap(marksOfBar).map((mark) => {
            if (mark.kind === "ended" || offTheChart(mark)) return null;
            const [from, to] = [x(mark.from), far(mark)];
            const long = Math.max(1.5, to - from);
            if (mark.kind === "grace")
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
            return (
              <rect
                key={mark.key}
                {...attributes(mark)}
                x={from}
                y="1"
                width={long}
                height="10"
                fill={mark.kind === "idle" ? `url(#${props.hatch})` : undefined}
                className={`${mark.kind === "live" ? "fill-reed" : ""} ${around(mark)}`}
              />
            );
          })}
        </g>
      ))}
      {row.elsewhere?.map((span) =>
        offTheChart(span) ? null : (
          <rect
            key={span.from}
            data-elsewhere
            x={x(span.from)}
            y={barTop}
            width={Math.max(0, far(span) - x(span.from))}
            height={tracks.length * trackHeight}
            className="pointer-events-none fill-sheet"
            opacity="0.7"
          />
        ),
      )}
      {tracks.map((track, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a track is no more than its place
        <g key={i} transform={`translate(0 ${barTop + i * trackHeight})`}>
          {track.map((bar, n) => {
            const mark = marksOfBar(bar).find((m) => m.kind === "ended");
            if (!mark || offTheChart(mark)) return null;
            const from = x(mark.from);
            const next = track[n + 1];
            const place = (next ? x(next.from) : width) - from;
            return (
              <g key={mark.key} {...attributes(mark)} transform={`translate(${from} 0)`}>
                <path
                  d="M0-1v14M-3.5-1h7M-3.5 13h7"
                  className={mark.key === props.chosen ? "stroke-ink" : "stroke-flood"}
                  strokeWidth="2"
                />
                {place > labelWidth(mark.reason ?? "") && (
                  <text x="5" y="10" fontSize="10" className="fill-muted">
                    {mark.reason}
                  </text>
                )}
              </g>
            );
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

/** The approximate width of the word beside an end. */
function labelWidth(word: string): number {
  return 7 + word.length * 5.6;
}

/** The legend of the marks. */
export function Legend({ hatch, room }: { hatch: string; room: boolean }) {
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
        <svg width="18" height="4" aria-hidden="true">
          <rect width="18" height="4" className="fill-heather" />
        </svg>
        engaged by it
      </span>
      <span className={item}>
        <svg width="18" height="10" aria-hidden="true">
          <rect width="18" height="10" className="fill-reed" />
        </svg>
        session with a link
      </span>
      {room && (
        <span className={item}>
          <svg width="18" height="10" aria-hidden="true">
            <rect width="18" height="10" className="fill-reed" opacity="0.3" />
          </svg>
          not in this room then
        </span>
      )}
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
      {room && (
        <span className={item}>
          <svg width="12" height="8" aria-hidden="true">
            <path d="M2 1v6M5 1v6M8 1v6" className="stroke-lamp" strokeWidth="1.5" />
          </svg>
          typing, since this page is open: typing and doing are not recorded
        </span>
      )}
    </p>
  );
}
