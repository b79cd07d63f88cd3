import { scaleLinear } from "d3-scale";
import { line } from "d3-shape";
import type { Shape } from "../api";
import { Sheet } from "../parts/frame";
import { lasting } from "../words";

type Advice = Shape<"GraceAdvice">;

type Cost = Shape<"GraceCost">;

const names: Record<string, string> = {
  "grace.closing": "After a page closes or reloads",
  "grace.lost": "After a link is lost",
  "grace.background": "After a link is lost in the background",
};

/** The advice for each grace, as a sentence and as a curve, and the lines of the configuration. */
export function AdviceSheet({ report }: { report: Shape<"Timing"> }) {
  return (
    <Sheet title="Advice: the smallest grace with at most 1 flicker in 1,000 returns">
      <div className="grid gap-x-8 gap-y-6 p-4 md:grid-cols-3">
        {report.advice.map((advice) => (
          <section key={advice.key} data-advice={advice.key} className="min-w-0 space-y-2 text-sm">
            <h3 className="font-medium">
              {names[advice.key]} <code className="block text-muted text-xs">{advice.key}</code>
            </h3>
            <CostCurve advice={advice} />
            <Words advice={advice} />
          </section>
        ))}
      </div>
      {report.config && (
        <div className="border-line border-t px-4 py-3 text-sm">
          <p className="pb-1 text-muted text-xs">For tovik.toml</p>
          <pre className="overflow-x-auto rounded bg-wash p-3 text-xs">{report.config}</pre>
        </div>
      )}
    </Sheet>
  );
}

function Words({ advice }: { advice: Advice }) {
  const { grace, advised, next, in_force } = advice;
  const now = (
    <>
      {lasting(in_force.grace)} is in force: {in_force.flickers.toFixed(1)} flickers in 1,000 returns.
    </>
  );
  if (!grace || !advised || !next)
    return (
      <p className="text-muted">
        {now} There is no advice from {advice.returns.toLocaleString("en")} returns; it takes{" "}
        {advice.needed.toLocaleString("en")}.
      </p>
    );
  return (
    <p>
      <b className="font-semibold">{lasting(grace.value)}</b>, between {lasting(grace.low)} and{" "}
      {lasting(grace.high)} in 95 of 100 cases. <span className="text-muted">{now}</span> A second more would
      save {(advised.flickers - next.flickers).toFixed(2)} of them, and list people who are gone for{" "}
      {lasting(next.ghosts - advised.ghosts)} more.
    </p>
  );
}

const size = { width: 320, height: 150, left: 34, right: 40, top: 14, bottom: 22 };

/** Flickers, and the time for which people who are gone are listed, by grace. */
function CostCurve({ advice }: { advice: Advice }) {
  const { curve } = advice;
  const last = curve.at(-1);
  if (!last) return <p className="rounded bg-wash p-4 text-muted text-xs">Nobody has returned yet.</p>;
  const x = scaleLinear()
    .domain([0, last.grace])
    .range([size.left, size.width - size.right]);
  const scale = (of: (c: Cost) => number) =>
    scaleLinear()
      .domain([0, Math.max(1, ...curve.map(of))])
      .range([size.height - size.bottom, size.top]);
  const flickers = scale((c) => c.flickers);
  const ghosts = scale((c) => c.ghosts);
  const path = (y: (c: Cost) => number) =>
    line<Cost>()
      .x((c) => x(c.grace))
      .y(y)(curve) ?? "";
  const [mostFlickers = 1] = flickers.domain().slice(1);
  const [mostGhosts = 1] = ghosts.domain().slice(1);
  return (
    <svg
      viewBox={`0 0 ${size.width} ${size.height}`}
      className="block w-full text-ink"
      role="img"
      aria-label={`${advice.key}: flickers fall from ${mostFlickers.toFixed(0)} to ${last.flickers.toFixed(0)} in 1,000 returns, while the time for which people who are gone are listed rises to ${lasting(mostGhosts)}`}
    >
      <path
        d={`M${size.left} ${size.height - size.bottom}H${size.width - size.right}`}
        className="stroke-line"
      />
      <path d={path((c) => flickers(c.flickers))} fill="none" strokeWidth="1.75" className="stroke-water" />
      <path
        d={path((c) => ghosts(c.ghosts))}
        fill="none"
        strokeWidth="1.5"
        strokeDasharray="5 3"
        className="stroke-lamp"
      />
      <Mark at={x(Math.min(advice.in_force.grace, last.grace))} label="in force" />
      {advice.grace && <Mark at={x(Math.min(advice.grace.value, last.grace))} label="advised" low />}
      <g fontSize="9" className="fill-current text-muted">
        <text x={size.left - 4} y={size.top + 4} textAnchor="end">
          {mostFlickers.toFixed(0)}
        </text>
        <text x={size.left - 4} y={size.height - size.bottom} textAnchor="end">
          0
        </text>
        <text x={size.width - size.right + 4} y={size.top + 4}>
          {lasting(mostGhosts).split(" ").slice(0, 2).join(" ")}
        </text>
        {x.ticks(4).map((ms) => (
          <text key={ms} x={x(ms)} y={size.height - 8} textAnchor="middle">
            {ms / 1000} s
          </text>
        ))}
      </g>
      <g fontSize="9">
        <text x={size.left} y={9} className="fill-current text-water">
          flickers in 1,000
        </text>
        <text x={size.width - size.right} y={9} textAnchor="end" className="fill-current text-lamp">
          gone, but listed
        </text>
      </g>
    </svg>
  );
}

function Mark(props: { at: number; label: string; low?: boolean }) {
  return (
    <g className="text-ink">
      <path
        d={`M${props.at} ${size.top}V${size.height - size.bottom}`}
        stroke="currentColor"
        strokeDasharray="2 2"
        strokeWidth="1"
      />
      <text x={props.at + 3} y={props.low ? size.top + 32 : size.top + 20} fontSize="9" fill="currentColor">
        {props.label}
      </text>
    </g>
  );
}
