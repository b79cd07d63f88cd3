import type { Status } from "@client/wire";

/** How high the water stands in the gauge, and its colour. */
const marks: Record<Status, { level: number; colour: string }> = {
  online: { level: 11, colour: "text-reed" },
  away: { level: 4, colour: "text-lamp" },
  busy: { level: 11, colour: "text-flood" },
  offline: { level: 0, colour: "text-muted" },
};

/** A staff gauge: full for online, low for away, full and barred for busy, empty for offline; with the word. */
export function StatusMark({ status, label = status }: { status: Status; label?: string }) {
  const { level, colour } = marks[status];
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
        <rect x="2" y={14 - level} width="4" height={level} rx="1" fill="currentColor" />
        {status === "busy" && <path d="M0 8h8" stroke="var(--sheet)" strokeWidth="2" />}
      </svg>
      {label}
    </span>
  );
}
