import { useQuery } from "@tanstack/react-query";
import { Slider } from "radix-ui";
import { useState } from "react";
import { useSearchParams } from "wouter";
import { ask, query, type Shape } from "../api";
import { Button } from "../parts/controls";
import { Frame, Sheet } from "../parts/frame";
import type { Policy } from "../parts/policy";
import { Table } from "../parts/table";
import { AdviceSheet } from "../timing/advice";
import { useStudy } from "../timing/study";
import { lasting, people, seconds, sessions } from "../words";
import { Field } from "./journal";

type Timing = Shape<"Timing">;

type Replayed = Shape<"Replayed">;

const spans = { "24 h": "24h", "36 h": "36h", "7 days": "7d", "30 days": "30d" } as const;

/** The values of the sliders, in milliseconds. */
const graces = [
  0.5, 1, 1.5, 2, 2.5, 3, 4, 5, 6, 8, 10, 12, 15, 20, 25, 30, 40, 50, 60, 75, 90, 120, 150, 180, 240, 300,
].map((s) => s * 1000);
const idles = [1, 2, 3, 4, 5, 6, 8, 10, 12, 15, 20, 25, 30, 45, 60].map((m) => m * 60_000);

/** What can be tried, with its key, its value in a policy, and its choices. */
const tries = [
  ["grace.closing", "After a page closes", (p: Policy) => p.grace_closing, graces],
  ["grace.lost", "After a link is lost", (p: Policy) => p.grace_lost, graces],
  ["grace.background", "The same, in the background", (p: Policy) => p.grace_background, graces],
  ["idle.after", "Away after", (p: Policy) => p.idle_after, idles],
] as const;

/** Chooses timings from what the journal has recorded. */
export function TimingPage({ onSignOut }: { onSignOut: () => void }) {
  const [search, setSearch] = useSearchParams();
  const span = (search.get("span") ?? "7 days") as keyof typeof spans;
  const room = search.get("room") ?? "";
  const [tried, setTried] = useState<Readonly<Record<string, number>>>({});
  const [asked, setAsked] = useState<Readonly<Record<string, number>>>({});
  const policies = useQuery({
    queryKey: ["policies", ""],
    queryFn: () => ask<{ policies: readonly Policy[] }>("/v1/policies"),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const inForce =
    policies.data?.policies.find((p) => room !== "" && p.pattern === room) ??
    policies.data?.policies.find((p) => !p.pattern);
  const study = useStudy(
    `/v1/timing${query({
      from: spans[span] ?? spans["7 days"],
      room,
      try: Object.entries(asked).map(([key, ms]) => `${key}=${ms}ms`),
    })}`,
  );
  const change = (name: string, value: string) =>
    setSearch((now) => {
      const next = new URLSearchParams(now);
      if (value) next.set(name, value);
      else next.delete(name);
      return next;
    });
  const { report } = study;
  return (
    <Frame title="Timing" onSignOut={onSignOut}>
      <h1 className="pb-1 font-semibold text-2xl tracking-tight">Timing</h1>
      <p className="max-w-prose pb-4 text-muted text-sm">
        What the journal has recorded says how long a grace should be. The recorded time is played again,
        under the policy in force and under the one you try.
      </p>
      <div className="flex flex-wrap items-end gap-x-4 gap-y-3 pb-4 text-sm">
        <fieldset className="flex flex-wrap gap-1">
          <legend className="pb-1 text-muted text-xs">The last</legend>
          {Object.keys(spans).map((one) => (
            <button
              key={one}
              type="button"
              aria-pressed={one === span}
              onClick={() => change("span", one)}
              className="rounded-md border border-line px-3 py-1.5 hover:bg-wash aria-pressed:bg-wash aria-pressed:font-medium"
            >
              {one}
            </button>
          ))}
        </fieldset>
        <Field label="Rooms" hint="basin.*" value={room} onChange={(value) => change("room", value)} />
        {report && (
          <p className="py-1.5 text-muted" data-studied={report.entries}>
            {sessions(report.sessions)} of {people(report.people)}, {report.entries.toLocaleString("en")}{" "}
            entries
          </p>
        )}
      </div>
      <Progress done={study.done} />
      {study.problem && (
        <p role="alert" className="mb-4 rounded-md border border-line bg-wash px-4 py-2.5 text-sm">
          {study.problem}
        </p>
      )}
      <div className="space-y-5">
        <Sheet title="Try another policy">
          <div className="grid gap-x-8 gap-y-5 p-4 lg:grid-cols-2">
            <div className="grid content-start gap-4">
              {tries.map(([key, label, of, choices]) => (
                <Try
                  key={key}
                  name={key}
                  label={label}
                  choices={choices}
                  now={inForce && of(inForce)}
                  value={tried[key]}
                  onChange={(ms) => setTried((all) => ({ ...all, [key]: ms }))}
                />
              ))}
              <div className="flex gap-2 text-sm">
                <Button onClick={() => setAsked(tried)} disabled={Object.keys(tried).length === 0}>
                  Replay
                </Button>
                <Button
                  onClick={() => {
                    setTried({});
                    setAsked({});
                  }}
                  disabled={Object.keys(tried).length === 0}
                >
                  As in force
                </Button>
              </div>
            </div>
            {report ? <Outcomes report={report} /> : <p className="text-muted text-sm">Playing…</p>}
          </div>
        </Sheet>
        {report && <AdviceSheet report={report} />}
        {report && <Losses report={report} />}
        {report && (
          <Sheet title="What the journal cannot know">
            <ul className="list-disc space-y-1 py-3 pr-4 pl-8 text-muted text-sm">
              {report.unknown.map((sentence) => (
                <li key={sentence}>{sentence}</li>
              ))}
            </ul>
          </Sheet>
        )}
      </div>
    </Frame>
  );
}

/** How much of a study is done. It takes no place when nothing runs. */
function Progress({ done }: { done: number | undefined }) {
  if (done === undefined) return null;
  return (
    <div className="flex items-center gap-3 pb-4 text-muted text-sm" role="status">
      <progress className="h-1.5 w-64 accent-water" max={1} value={done} aria-label="Played" />
      {Math.round(done * 100)} % of the recorded time
    </div>
  );
}

function Try(props: {
  name: string;
  label: string;
  choices: readonly number[];
  now: number | undefined;
  value: number | undefined;
  onChange: (ms: number) => void;
}) {
  const { choices, now = choices[0] ?? 0 } = props;
  const value = props.value ?? now;
  const nearest = choices.reduce((best, ms, i) => {
    return Math.abs(ms - value) < Math.abs((choices[best] ?? 0) - value) ? i : best;
  }, 0);
  return (
    <div className="grid gap-1 text-sm">
      <span className="flex justify-between">
        <span>
          {props.label} <code className="text-muted text-xs">{props.name}</code>
        </span>
        <span>
          <b className="font-semibold">{seconds(value)}</b>
          {props.value !== undefined && props.value !== now && (
            <span className="text-muted"> · in force {seconds(now)}</span>
          )}
        </span>
      </span>
      <Slider.Root
        className="relative flex h-6 touch-none select-none items-center"
        min={0}
        max={choices.length - 1}
        step={1}
        value={[nearest]}
        onValueChange={([i]) => props.onChange(choices[i ?? 0] ?? 0)}
      >
        <Slider.Track className="relative h-1 grow rounded-full bg-line">
          <Slider.Range className="absolute h-full rounded-full bg-water" />
        </Slider.Track>
        <Slider.Thumb
          aria-label={props.name}
          aria-valuetext={seconds(value)}
          className="block size-4 rounded-full border-2 border-water bg-sheet"
        />
      </Slider.Root>
    </div>
  );
}

const rows: readonly [string, (r: Replayed) => string][] = [
  ["Leaves", (r) => String(r.leaves)],
  ["of those, because somebody did not return in time", (r) => String(r.losses)],
  ["Flickers: back within a minute", (r) => String(r.flickers)],
  ["Gone, but listed", (r) => lasting(r.ghosts)],
  ["Here, but not listed", (r) => lasting(r.missing)],
  ["Shown away", (r) => lasting(r.away)],
  ["Headcounts wrong by, on average", (r) => `${r.count_error.toFixed(3)} people`],
];

/** What others saw under the policy in force, and what they would have seen. */
function Outcomes({ report }: { report: Timing }) {
  const { tried } = report;
  const off = report.exceptions.recorded + report.exceptions.replayed;
  return (
    <div className="min-w-0">
      <Table heads={["What others saw", "In force", ...(tried ? ["Tried"] : [])]} marker="outcomes">
        {rows.map(([name, of]) => (
          <tr key={name}>
            <td>{name}</td>
            <td className="whitespace-nowrap">{of(report.in_force)}</td>
            {tried && (
              <td
                className={`whitespace-nowrap ${of(tried) === of(report.in_force) ? "text-muted" : "font-medium"}`}
              >
                {of(tried)}
              </td>
            )}
          </tr>
        ))}
      </Table>
      <p className="pt-2 text-muted text-xs" data-exceptions={off}>
        {off === 0
          ? `Under the policy in force the replay has exactly the ${report.leaves} leaves on record.`
          : `On record are ${report.leaves} leaves. The replay under the policy in force misses ${report.exceptions.recorded} of them and has ${report.exceptions.replayed} besides, such as ${report.exceptions.first
              .slice(0, 2)
              .map((l) => `${l.user} in ${l.room} (${l.only} only)`)
              .join(", ")}.`}
      </p>
    </div>
  );
}

const causes: Record<string, string> = {
  closing: "The page closed or reloaded",
  lost: "The link was lost",
  background: "The same, in the background",
  silent: "The link fell silent",
  restarted: "The service restarted",
};

const parts = { room: "by room", link: "by kind of link", hour: "by hour (UTC)" } as const;

/** For how long links were gone, and other times. */
function Losses({ report }: { report: Timing }) {
  const [by, setBy] = useState<keyof typeof parts>();
  return (
    <Sheet title="For how long links were gone">
      <div className="flex flex-wrap gap-1 px-4 pt-3 text-xs">
        {(Object.keys(parts) as (keyof typeof parts)[]).map((one) => (
          <button
            key={one}
            type="button"
            aria-pressed={by === one}
            onClick={() => setBy(by === one ? undefined : one)}
            className="rounded border border-line px-2 py-0.5 hover:bg-wash aria-pressed:bg-wash aria-pressed:font-medium"
          >
            {parts[one]}
          </button>
        ))}
      </div>
      <div className="overflow-x-auto">
        <Table
          heads={["", "Times", "In time", "Late", "Never", "Half within", "90 %", "99 %", "99.9 %"]}
          marker="losses"
        >
          {report.losses.flatMap((loss) => [
            <LossRow key={loss.cause} name={causes[loss.cause] ?? loss.cause} of={loss} />,
            ...loss.parts
              .filter((part) => part.by === by)
              .map((part) => <LossRow key={`${loss.cause} ${part.name}`} name={part.name} of={part} inner />),
          ])}
          <tr>
            <td>Without input, until active again</td>
            <td>{report.idle.times}</td>
            <td />
            <td />
            <td />
            <Quantiles of={report.idle} />
          </tr>
          <tr>
            <td>Typing; {share(report.typing.expired, report.typing.times)} expired</td>
            <td>{report.typing.times}</td>
            <td />
            <td />
            <td />
            <Quantiles of={report.typing} />
          </tr>
        </Table>
      </div>
      <p className="px-4 py-3 text-muted text-xs">
        In time: the session went on. Late: its client came back within 10 minutes, too late. A share is left
        out if there are too few for it; on hover, the bounds of 95 of 100 cases.
      </p>
    </Sheet>
  );
}

function share(part: number, of: number): string {
  return `${of === 0 ? 0 : Math.round((part * 100) / of)} %`;
}

function LossRow(props: { name: string; of: Omit<Shape<"LossPart">, "by" | "name">; inner?: boolean }) {
  const { of } = props;
  return (
    <tr className={props.inner ? "text-muted" : undefined}>
      <td>{props.inner ? <span className="pl-5 font-mono text-xs">{props.name}</span> : props.name}</td>
      <td>{of.in_time + of.late + of.never}</td>
      <td>{of.in_time}</td>
      <td>{of.late}</td>
      <td>{of.never}</td>
      <Quantiles of={of.gaps} />
    </tr>
  );
}

function Quantiles({ of }: { of: Shape<"Lengths"> }) {
  return [0.5, 0.9, 0.99, 0.999].map((share) => {
    const found = of.quantiles.find((q) => q.share === share);
    return (
      <td key={share} title={found && `${lasting(found.low)} to ${lasting(found.high)}`}>
        {found ? lasting(found.value) : <span className="text-muted">–</span>}
      </td>
    );
  });
}
