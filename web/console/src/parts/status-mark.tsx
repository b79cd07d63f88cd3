import type { Status } from "@client/wire";

/** Where the gauge is filled: tops and heights, of 11, and the colour. */
const marks: Record<Status | "engaged", { bands: readonly (readonly [number, number])[]; colour: string }> = {
  online: { bands: [[0, 11]], colour: "text-reed" },
  away: { bands: [[7, 4]], colour: "text-lamp" },
  busy: { bands: [[0, 5.5]], colour: "text-heather" },
  engaged: {
    bands: [
      [0, 4],
      [7, 4],
    ],
    colour: "text-heather",
  },
  offline: { bands: [], colour: "text-muted" },
};

/**
 * A status as a word with a staff gauge: full for online, low for away, the upper half for busy, two bands for engaged,
 * empty for offline. The application's own word for a status takes the place of ours.
 */
export function StatusMark(props: {
  status: Status;
  engaged?: boolean | undefined;
  label?: string | undefined;
}) {
  const shown = props.engaged ? "engaged" : props.status;
  const { label = shown } = props;
  const { bands, colour } = marks[shown];
  return (
    <span
      className={`inline-flex items-baseline gap-1.5 ${colour}`}
      title={label === props.status ? undefined : props.status}
    >
      <svg viewBox="0 0 8 16" className="h-4 w-2 self-center" aria-hidden="true">
        <rect
          x=".75"
          y=".75"
          width="6.5"
          height="14.5"
          rx="2"
          fill="none"
          stroke="currentColor"
          strokeWidth="1.5"
        />
        {bands.map(([top, height]) => (
          <rect key={top} x="2" y={3 + top} width="4" height={height} rx="1" fill="currentColor" />
        ))}
      </svg>
      {label}
    </span>
  );
}
