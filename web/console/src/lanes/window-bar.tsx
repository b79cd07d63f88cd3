import type { WindowControls } from "./window";

const lengths = [
  ["5 min", 5 * 60_000],
  ["15 min", 15 * 60_000],
  ["1 h", 3_600_000],
  ["6 h", 6 * 3_600_000],
  ["1 day", 86_400_000],
] as const;

/** The buttons that choose the window of time. */
export function WindowBar({ controls }: { controls: WindowControls }) {
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
