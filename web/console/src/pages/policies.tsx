import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ask, faultOf, query } from "../api";
import { Frame, Sheet } from "../parts/frame";
import { type Policy, PolicyTimeline } from "../parts/policy";
import { people, seconds } from "../words";
import { Field } from "./journal";

/** The policies, and what they mean. */
export function PoliciesPage({ onSignOut }: { onSignOut: () => void }) {
  const [room, setRoom] = useState("");
  const all = useQuery({
    queryKey: ["policies", room],
    queryFn: () => ask<{ policies: readonly Policy[] }>(`/v1/policies${query({ room })}`),
    placeholderData: (before) => before,
  });
  const fault = faultOf(all);
  return (
    <Frame title="Policies" onSignOut={onSignOut}>
      <h1 className="pb-3 font-semibold text-2xl tracking-tight">Policies</h1>
      <div className="pb-4 text-sm">
        <Field label="What applies to the room" hint="desk.night" value={room} onChange={setRoom} />
      </div>
      {fault && (
        <p role="alert" className="rounded-md border border-line bg-wash px-4 py-2.5 text-sm">
          {fault.message}
        </p>
      )}
      <div className="space-y-5">
        {!fault &&
          all.data?.policies.map((policy) => (
            <Sheet key={`${policy.room} ${policy.pattern}`} title={titleOf(policy)}>
              <div className="grid gap-x-8 gap-y-4 p-4 lg:grid-cols-2">
                <PolicyTimeline policy={policy} />
                <div className="space-y-2 text-sm">
                  {policy.words.map((sentence) => (
                    <p key={sentence}>{sentence}</p>
                  ))}
                  <p className="text-muted">
                    “Typing” is shown for {seconds(policy.typing_expires)} after the last report. Counts are
                    told at most every {policy.count_every} ms. Lists of more than{" "}
                    {people(policy.members_max)} come in pages.
                  </p>
                </div>
              </div>
            </Sheet>
          ))}
        <p className="max-w-prose text-muted text-sm">
          A room has the policy of the most specific pattern that matches it. Policies are set in the
          configuration file; <code>tovik reload</code> takes it over.
        </p>
      </div>
    </Frame>
  );
}

function titleOf({ room, pattern }: Policy): string {
  const where = pattern
    ? `Rooms that match ${pattern}`
    : "Every room that no pattern matches: the realm’s policy";
  return room
    ? `${room}, as ${pattern ? `it matches ${pattern}` : "no pattern matches it: the realm’s policy"}`
    : where;
}
