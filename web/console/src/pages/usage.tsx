import { useState } from "react";
import { useSearchParams } from "wouter";
import { query, type Shape, useEvents } from "../api";
import { server } from "../live";
import { Frame, Sheet } from "../parts/frame";
import { Table } from "../parts/table";

type Used = Shape<"Used">;
type QuotaUse = Shape<"QuotaUse">;

const steps = ["hour", "day", "month"] as const;

/** How much of a step's beginning is shown. */
const shown = { hour: 16, day: 10, month: 7 } as const;

const nouns = { people: "people", sessions: "sessions", cues: "cues in this minute" } as const;

/** What the realm has used, and how much of its quotas it uses. */
export function UsagePage({ whole, onSignOut }: { whole: boolean; onSignOut: () => void }) {
  const [search, setSearch] = useSearchParams();
  const step = steps.find((one) => one === search.get("step")) ?? "day";
  const [known, setKnown] = useState<Shape<"Usage">>();
  useEvents(whole ? step : undefined, () => `/v1/usage${query({ step })}`, {
    usage: (data) => setKnown(JSON.parse(data)),
  });
  const doc = known?.step === step ? known : undefined;
  return (
    <Frame title="Usage" onSignOut={onSignOut}>
      <h1 className="pb-3 font-semibold text-2xl tracking-tight">Usage</h1>
      <fieldset className="flex flex-wrap gap-1 pb-4 text-sm">
        <legend className="pb-1 text-muted text-xs">Step, in UTC</legend>
        {steps.map((one) => (
          <button
            key={one}
            type="button"
            aria-pressed={one === step}
            onClick={() => setSearch({ step: one })}
            className="rounded border border-line px-2.5 py-1 hover:bg-wash aria-pressed:bg-wash aria-pressed:font-medium"
          >
            {one}
          </button>
        ))}
      </fieldset>
      {!whole && (
        <p className="text-muted">Your key is for some rooms only; this is about the whole realm.</p>
      )}
      {doc && (
        <div className="space-y-5">
          <Sheet title="Quotas">
            <Quotas quotas={doc.quotas} />
          </Sheet>
          <Sheet title={`What ${doc.realm} has used`}>
            <Table
              heads={[
                "Begins",
                "People-minutes",
                "Session-minutes",
                "Most people",
                "Most sessions",
                "Most links",
                "Cues",
              ]}
              marker="usage"
            >
              {[...doc.steps].reverse().map((of) => (
                <Row key={of.at} begin={of.at.slice(0, shown[step]).replace("T", " ")} used={of} />
              ))}
              <Row begin="together" used={doc.total} strong />
            </Table>
            <p className="border-line border-t px-4 py-2 text-muted text-xs">
              Two people for half an hour are 60 people-minutes. Export{" "}
              <a
                className="text-water underline underline-offset-2"
                download="usage.csv"
                href={`${server}/v1/usage${query({ step, format: "csv" })}`}
              >
                as CSV
              </a>
            </p>
          </Sheet>
        </div>
      )}
    </Frame>
  );
}

function Row({ begin, used, strong }: { begin: string; used: Used; strong?: boolean }) {
  const number = (of: number) => Math.round(of).toLocaleString("en");
  return (
    <tr className={strong ? "font-medium" : undefined}>
      <td className="whitespace-nowrap">{begin}</td>
      <td>{number(used.people_minutes)}</td>
      <td>{number(used.session_minutes)}</td>
      <td>{number(used.peak_people)}</td>
      <td>{number(used.peak_sessions)}</td>
      <td>{number(used.peak_links)}</td>
      <td>{number(used.cues)}</td>
    </tr>
  );
}

function Quotas({ quotas }: { quotas: readonly QuotaUse[] }) {
  if (quotas.length === 0)
    return (
      <p className="px-4 py-3 text-muted text-sm">
        None. In the configuration, <code>quota.people</code>, <code>quota.sessions</code> and{" "}
        <code>quota.cues</code> limit what a realm uses. From 80 % on the journal, hooks, metrics and this
        page say so.
      </p>
    );
  return (
    <ul className="grid gap-3 px-4 py-3 text-sm sm:grid-cols-3">
      {quotas.map((q) => (
        <li key={q.quota} data-quota={q.quota}>
          <p className="flex justify-between pb-1">
            <span>
              {q.used.toLocaleString("en")} of {q.limit.toLocaleString("en")} {nouns[q.quota]}
            </span>
            {q.near && <strong>{q.used >= q.limit ? "used up" : "near"}</strong>}
          </p>
          <meter
            className="w-full"
            min={0}
            max={q.limit}
            high={q.limit * 0.8}
            value={q.used}
            aria-label={`${q.quota} used`}
          />
        </li>
      ))}
    </ul>
  );
}
