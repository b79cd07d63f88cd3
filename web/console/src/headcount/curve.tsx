import { useQuery } from "@tanstack/react-query";
import { area, curveStepAfter, line } from "d3-shape";
import { useState } from "react";
import { ask, query, type Shape, useEvents } from "../api";
import type { Across } from "../lanes/row-marks";

/** A step of headcounts: GET /v1/headcount. */
export type Headcount = Shape<"Headcount">;

export type Headcounts = Shape<"Headcounts">;

export type Step = Headcounts["step"];

/** The length of a step, in milliseconds. */
export const stepLength: Record<Step, number> = { minute: 60_000, hour: 3_600_000, day: 86_400_000 };

/** The step for a length of time. */
export function stepFor(length: number): Step {
  if (length <= 8 * 3_600_000) return "minute";
  return length <= 21 * 86_400_000 ? "hour" : "day";
}

/** Headcounts between two times that are over. */
export function useHeadcount(room: string | undefined, step: Step, from: number, to: number | undefined) {
  const length = stepLength[step];
  const start = Math.floor(from / length) * length;
  const end = Math.ceil((to ?? 0) / length) * length;
  return useQuery({
    queryKey: ["headcount", room, step, start, end],
    queryFn: async () => {
      const steps: Headcount[] = [];
      let at: string | undefined = new Date(start).toISOString();
      while (at && steps.length < 20_000) {
        const part: Headcounts = await ask(
          `/v1/headcount${query({ room, step, from: at, to: new Date(end).toISOString() })}`,
        );
        steps.push(...part.steps);
        at = part.next;
      }
      return steps;
    },
    enabled: to !== undefined,
    placeholderData: (before) => before,
  });
}

/** Headcounts by room. */
export type Counted = ReadonlyMap<string, readonly Headcount[]>;

/**
 * Headcounts of rooms in a span of time until now, live. The empty name stands for the realm. Without rooms nothing is
 * followed.
 */
export function useHeadcounts(rooms: readonly string[], step: Step, span: number): Counted {
  const [told, setTold] = useState<{ step: Step; counted: Counted }>({ step, counted: new Map() });
  const length = stepLength[step];
  const begin = () => new Date(Math.floor((Date.now() - span) / length) * length).toISOString();
  useEvents(
    rooms.length === 0 ? undefined : JSON.stringify([rooms, step, span]),
    () => `/v1/headcount${headcountQuery(rooms, step, begin())}`,
    {
      headcount: (data) => {
        const { room = "", steps }: Headcounts = JSON.parse(data);
        setTold((told) => {
          const counted = told.step === step ? new Map(told.counted) : new Map();
          return { step, counted: counted.set(room, merged(counted.get(room), steps, begin())) };
        });
      },
    },
  );
  return told.step === step ? told.counted : nothing;
}

const nothing: Counted = new Map();

/** Names of rooms are repeated, and that of the realm is empty, which {@link query} would leave out. */
function headcountQuery(rooms: readonly string[], step: Step, from: string): string {
  return `?${new URLSearchParams([...rooms.map((room) => ["room", room]), ["step", step], ["from", from]])}`;
}

/** Steps since a time, with newer ones added; a newer one replaces that of the same time. */
function merged(
  steps: readonly Headcount[] = [],
  more: readonly Headcount[],
  since: string,
): readonly Headcount[] {
  const first = more[0]?.at ?? "";
  return [...steps.filter((s) => s.at < first && s.at >= since), ...more];
}

/** A point of a curve: the minimum, maximum and mean of a step. */
interface Point {
  readonly at: number;
  readonly min: number;
  readonly max: number;
  readonly mean: number;
}

/**
 * The points of headcounts, with gaps where nothing was measured, and the current number at the end. A step without a
 * headcount had nobody in it.
 */
export function pointsOf(
  steps: readonly Headcount[],
  step: Step,
  now?: { at: number; people: number },
): readonly Point[] {
  const length = stepLength[step];
  const points: Point[] = [];
  for (const { at, people } of steps) {
    const time = Date.parse(at);
    const before = points.at(-1);
    if (before && time > before.at + length) points.push({ at: before.at + length, min: 0, max: 0, mean: 0 });
    points.push({ at: time, ...people });
  }
  const last = points.at(-1);
  if (now) {
    if (last && now.at - last.at < 2 * length)
      points.push({ at: Math.min(last.at + length, now.at), ...flat(now.people) });
    points.push({ at: now.at, ...flat(now.people) });
  } else if (last) points.push({ ...last, at: Math.min(last.at + length, Date.now()) });
  return points;
}

const flat = (n: number) => ({ min: n, max: n, mean: n });

/** The mean as a line, on a band between minimum and maximum. */
export function Curve(props: {
  points: readonly Point[];
  across: Across;
  up: (count: number) => number;
  className?: string;
  band?: boolean;
}) {
  const { points, across, up } = props;
  const band = area<Point>()
    .x((p) => across(p.at))
    .y0((p) => up(p.min))
    .y1((p) => up(p.max))
    .curve(curveStepAfter);
  const mean = line<Point>()
    .x((p) => across(p.at))
    .y((p) => up(p.mean))
    .curve(curveStepAfter);
  return (
    <g className={props.className ?? "text-water"}>
      {props.band !== false && <path d={band(points) ?? ""} fill="currentColor" opacity="0.22" />}
      <path d={mean(points) ?? ""} fill="none" stroke="currentColor" strokeWidth="1.75" />
    </g>
  );
}
