import { useEffect, useState } from "react";
import { server } from "../live";
import { exact } from "../words";

/** How the records are, of GET /readyz. */
interface Records {
  readonly status: "ok" | "failing";
  readonly error?: string;
  readonly since?: string;
  readonly lost: number;
  readonly lost_deliveries: number;
}

/** How often it is asked: what cannot be written cannot be followed either. */
const ASK_EVERY = 10_000;

/** Says when the records cannot be written, and how much of the journal is missing. Else nothing. */
export function RecordsNotice() {
  const [records, setRecords] = useState<Records>();
  useEffect(() => {
    const ask = () =>
      fetch(`${server}/readyz`)
        .then((answer) => answer.json())
        .then(
          (doc) => doc.records && setRecords(doc.records),
          () => {}, // the link says that the service is away
        );
    void ask();
    const timer = setInterval(ask, ASK_EVERY);
    return () => clearInterval(timer);
  }, []);
  if (!records || (records.status === "ok" && records.lost + records.lost_deliveries === 0)) return null;
  return (
    <p
      role="status"
      data-records={records.status}
      className="mb-4 rounded-md border border-line bg-wash px-4 py-2.5 text-sm"
    >
      {records.status === "failing" ? (
        <>
          <b className="font-semibold">The records cannot be written</b>
          {records.since && ` since ${exact(records.since)}`}: {records.error}. Presence goes on; what happens
          waits to be written.{" "}
        </>
      ) : null}
      {records.lost > 0 &&
        `${records.lost} ${records.lost === 1 ? "entry" : "entries"} of the journal could not be kept. `}
      {records.lost_deliveries > 0 &&
        `${records.lost_deliveries} ${records.lost_deliveries === 1 ? "event" : "events"} for hooks could not be kept.`}
    </p>
  );
}
