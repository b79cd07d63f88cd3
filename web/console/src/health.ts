import { useQuery } from "@tanstack/react-query";
import { server } from "./live";

/** What the service says of itself, as far as the key may know it. */
export interface Health {
  readonly people?: number | undefined;
  readonly sessions?: number | undefined;
  readonly links?: number | undefined;
  /** What is wrong, in words; nothing when all is well. */
  readonly wrong: readonly string[];
  readonly recordsFail: boolean;
}

/** How the records are, of GET /readyz. */
interface Records {
  readonly status: "ok" | "failing";
  readonly error?: string;
  readonly since?: string;
  readonly waiting: number;
  readonly lost: number;
  readonly lost_deliveries: number;
}

/** How often it is asked: no stream tells of this. */
const every = 5000;

/** The health of the service. While it cannot be reached, what was last known, with that on top. */
export function useHealth(realm: string): Health | undefined {
  const ready = useQuery({
    queryKey: ["readiness"],
    queryFn: async () => (await fetch(`${server}/readyz`)).json() as Promise<{ records?: Records }>,
    refetchInterval: every,
  });
  const metrics = useQuery({
    queryKey: ["metrics"],
    queryFn: async () => {
      const answer = await fetch(`${server}/metrics`);
      return answer.ok ? samplesOf(await answer.text()) : []; // a key about some rooms may not know
    },
    refetchInterval: every,
  });
  if (!ready.data) return undefined;
  const sum = (name: string, labels = "") =>
    (metrics.data ?? [])
      .filter((s) => s.name === name && s.labels.includes(labels))
      .reduce((total, s) => total + s.value, 0);
  const known = (metrics.data?.length ?? 0) > 0;
  const of = `realm="${realm}"`;
  return {
    ...(known && {
      people: sum("tovik_people", of),
      sessions: sum("tovik_sessions", of),
      links: sum("tovik_links"),
    }),
    wrong: [...wrongWith(ready.data.records), ...wrongIn(sum)],
    recordsFail: ready.data.records?.status === "failing",
  };
}

function wrongWith(records: Records | undefined): string[] {
  const wrong: string[] = [];
  if (records?.status === "failing")
    wrong.push(
      `The records cannot be written${records.since ? ` since ${new Date(records.since).toLocaleTimeString()}` : ""}: ${records.error}. Presence goes on; what happens waits to be written.`,
    );
  if (records && records.lost > 0)
    wrong.push(
      `${records.lost} ${records.lost === 1 ? "entry" : "entries"} of the journal could not be kept.`,
    );
  if (records && records.lost_deliveries > 0)
    wrong.push(
      `${records.lost_deliveries} ${records.lost_deliveries === 1 ? "event" : "events"} for hooks could not be kept.`,
    );
  return wrong;
}

/** So many deliveries may wait before it is worth a word. */
const backlog = 100;

function wrongIn(sum: (name: string, labels?: string) => number): string[] {
  const wrong: string[] = [];
  const lag = sum("tovik_records_lag_seconds");
  const parked = sum("tovik_hook_deliveries", 'state="parked"');
  const waiting = sum("tovik_hook_deliveries", 'state="waiting"');
  const before = sum("tovik_links_before_hello");
  if (lag > 5) wrong.push(`The records are ${lag.toFixed(0)} s behind.`);
  if (parked > 0)
    wrong.push(`${parked} ${parked === 1 ? "delivery is" : "deliveries are"} parked: see the hooks.`);
  if (waiting > backlog) wrong.push(`${waiting} deliveries to hooks wait.`);
  if (before > backlog) wrong.push(`${before} links have not said hello yet.`);
  return wrong;
}

interface Sample {
  readonly name: string;
  readonly labels: string;
  readonly value: number;
}

/** The samples of a page of metrics (the Prometheus text format). */
function samplesOf(text: string): readonly Sample[] {
  return [...text.matchAll(/^([a-z_]+)(?:\{(.*)\})? ([^ ]+)$/gm)].map(
    ([, name = "", labels = "", value]) => ({
      name,
      labels,
      value: Number(value),
    }),
  );
}
