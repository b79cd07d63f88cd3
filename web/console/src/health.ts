import { useState } from "react";
import { type Shape, useEvents } from "./api";

/** The state of the service, as far as the key may know it: GET /v1/health. */
export type Health = Shape<"ServiceHealth">;

/** The health of the service, live; while it cannot be reached, what was last known. */
export function useHealth(): Health | undefined {
  const [health, setHealth] = useState<Health>();
  useEvents("health", () => "/v1/health", { health: (data) => setHealth(JSON.parse(data)) });
  return health;
}

/** Above these limits a number is reported. */
const backlog = 100;
const longLag = 5000;

/** What is wrong with the service, in sentences. */
export function wrongWith({ records, links_before_hello, realm }: Health): readonly string[] {
  const wrong: string[] = [];
  if (records.status === "failing")
    wrong.push(
      `The records cannot be written${records.since ? ` since ${new Date(records.since).toLocaleTimeString()}` : ""}: ${records.error}. Presence goes on; what happens waits to be written.`,
    );
  if (records.lost > 0)
    wrong.push(`${counted(records.lost, "entry", "entries")} of the journal could not be kept.`);
  if (records.lost_deliveries > 0)
    wrong.push(`${counted(records.lost_deliveries, "event", "events")} for hooks could not be kept.`);
  if (records.lag > longLag) wrong.push(`The records are ${Math.round(records.lag / 1000)} s behind.`);
  if (realm && realm.parked > 0)
    wrong.push(`${counted(realm.parked, "delivery is", "deliveries are")} parked: see the hooks.`);
  if (realm && realm.waiting > backlog) wrong.push(`${realm.waiting} deliveries to hooks wait.`);
  if (links_before_hello > backlog) wrong.push(`${links_before_hello} links have not said hello yet.`);
  return wrong;
}

function counted(n: number, one: string, many: string): string {
  return `${n} ${n === 1 ? one : many}`;
}
