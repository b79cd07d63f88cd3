import type { Member } from "@client/wire";

/** A staff gauge that is full for who is online and empty for who is offline, with the word. */
export function StatusMark({ status }: { status: Member["status"] }) {
  const full = status === "online";
  return (
    <span className={`inline-flex items-center gap-1.5 ${full ? "text-reed" : "text-muted"}`}>
      <svg viewBox="0 0 8 16" className="h-4 w-2" aria-hidden="true">
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
        {full && <rect x="2" y="3" width="4" height="11" rx="1" fill="currentColor" />}
      </svg>
      {status}
    </span>
  );
}
