import type { Timings } from "@client/wire";
import { seconds } from "../words";

/** What the timings mean for who is listed. */
export function Rules({ timings }: { timings: Timings }) {
  const rules = [
    ["closes or reloads the page", timings.grace_closing, "A reload is back long before, so nobody sees it."],
    ["loses the network", timings.grace_lost, "Back within it, nobody has seen anything."],
    [
      "stops answering",
      timings.longest_ghost,
      `At most: asked after ${seconds(timings.beat_every)}, given ${seconds(timings.silence)} to answer, then as if the network were lost.`,
    ],
    ["touches nothing", timings.idle_after, "Then they are shown as away, and are still in the room."],
  ] as const;
  return (
    <dl className="divide-y divide-line text-sm">
      {rules.map(([event, time, note]) => (
        <div key={event} className="grid grid-cols-[1fr_auto] gap-x-4 px-4 py-2.5">
          <dt>
            Who <b className="font-medium">{event}</b>
          </dt>
          <dd className="row-span-2 self-center font-mono text-lamp">{seconds(time)}</dd>
          <dd className="text-muted text-xs">{note}</dd>
        </div>
      ))}
    </dl>
  );
}
