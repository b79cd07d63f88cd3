import type { Status } from "@client/wire";

/** Where the gauge is filled: the top and height, of 11, and the colour. */
const marks: Record<Status, { top: number; height: number; colour: string }> = {
  online: { top: 0, height: 11, colour: "text-reed" },
  away: { top: 7, height: 4, colour: "text-lamp" },
  busy: { top: 0, height: 5.5, colour: "text-heather" },
  offline: { top: 11, height: 0, colour: "text-muted" },
};

/**
 * A status as a word with a staff gauge: full for online, low for away, the upper half for busy, empty for offline.
 */
export function StatusMark({ status, label = status }: { status: Status; label?: string }) {
  const { top, height, colour } = marks[status];
  return (
    <span className={`inline-flex items-baseline gap-1.5 ${colour}`}>
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
        <rect x="2" y={3 + top} width="4" height={height} rx="1" fill="currentColor" />
      </svg>
      {label}
    </span>
  );
}
