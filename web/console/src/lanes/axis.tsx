import type { scaleTime } from "d3-scale";
import { clock } from "../words";
import type { Window } from "./window";

const dayFormat = new Intl.DateTimeFormat([], { day: "numeric", month: "short" });
const minuteFormat = new Intl.DateTimeFormat([], { hour: "2-digit", minute: "2-digit", hour12: false });
const secondFormat = new Intl.DateTimeFormat([], { timeStyle: "medium", hour12: false });

/** The labels of the time axis. */
export function Axis(props: { across: ReturnType<typeof scaleTime<number>>; width: number; window: Window }) {
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
