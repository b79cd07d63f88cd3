import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { FormEvent } from "react";
import { ask, query, type Shape, useJournalStream } from "../api";
import { useNow } from "../live";
import { exact, lasting } from "../words";
import { Button, Problem, TextField } from "./controls";
import { PersonLink } from "./entries";
import { Sheet } from "./frame";

/** The kinds of journal entries after which asks and invitations are requested again. */
const kinds = ["ask.opened", "ask.answered", "invitation.opened", "invitation.answered"];

/** Requests something again whenever an ask or an invitation has begun or ended. */
function useMeetings<T>(key: readonly string[], path: string, filter: Record<string, string>) {
  const client = useQueryClient();
  const found = useQuery({ queryKey: key, queryFn: () => ask<T>(path) });
  useJournalStream({ ...filter, kind: kinds }, key, () => void client.invalidateQueries({ queryKey: key }));
  return { data: found.data, again: () => void client.invalidateQueries({ queryKey: key }) };
}

/** The open asks of a room, with buttons to answer them. Nothing if nobody asks. */
export function Asks({ room, answers }: { room: string; answers: boolean }) {
  const { data, again } = useMeetings<Shape<"Asks">>(["asks", room], `/v1/asks${query({ room })}`, { room });
  const now = useNow();
  const answer = useMutation({
    mutationFn: ([id, how]: readonly [string, "admit" | "refuse"]) =>
      ask(`/v1/asks/${id}/${how}`, { method: "POST" }),
    onSettled: again,
  });
  const asks = data?.asks ?? [];
  if (asks.length === 0) return null;
  return (
    <Sheet
      title={asks.length === 1 ? "1 person asks to be let in" : `${asks.length} people ask to be let in`}
    >
      <ul className="divide-y divide-line text-sm" data-asks={asks.length}>
        {asks.map((a) => (
          <li key={a.ask} className="flex flex-wrap items-center gap-2 px-4 py-2" data-ask={a.user}>
            <span className="grow">
              <PersonLink user={a.user} name={a.name} />
              <span className="block text-muted text-xs" title={exact(a.since)}>
                asked {lasting(now - Date.parse(a.since))} ago, expires in{" "}
                {lasting(Math.max(0, Date.parse(a.until) - now))}
              </span>
            </span>
            {answers && (
              <>
                <Button onClick={() => answer.mutate([a.ask, "admit"])}>Admit</Button>
                <Button onClick={() => answer.mutate([a.ask, "refuse"])}>Refuse</Button>
              </>
            )}
          </li>
        ))}
      </ul>
      <Problem of={answer.error} />
    </Sheet>
  );
}

/** The open invitations into a room, or of a person, with a button to withdraw each. Nothing if there are none. */
export function Invitations(props: { room: string; answers: boolean } | { user: string; answers: boolean }) {
  const of = "user" in props ? { user: props.user } : { room: props.room };
  const { data, again } = useMeetings<Shape<"InvitationList">>(
    ["invitations", JSON.stringify(of)],
    `/v1/invitations${query("user" in props ? { user: props.user } : {})}`,
    "user" in props ? {} : { room: props.room }, // the one who is invited is not the user of the entry
  );
  const now = useNow();
  const withdraw = useMutation({
    mutationFn: (id: string) => ask(`/v1/invitations/${id}`, { method: "DELETE" }),
    onSettled: again,
  });
  const list = (data?.invitations ?? []).filter((i) => "user" in props || i.room === props.room);
  if (list.length === 0) return null;
  return (
    <Sheet title={list.length === 1 ? "1 open invitation" : `${list.length} open invitations`}>
      <ul className="divide-y divide-line text-sm" data-invitations={list.length}>
        {list.map((i) => (
          <li key={i.invitation} className="flex flex-wrap items-center gap-2 px-4 py-2">
            <span className="grow">
              <PersonLink user={i.from.user} name={i.from.name} /> invites{" "}
              <PersonLink user={i.to.user} name={i.to.name} />
              <span className="block text-muted text-xs" title={exact(i.since)}>
                into <span className="font-mono">{i.room}</span>, expires in{" "}
                {lasting(Math.max(0, Date.parse(i.until) - now))}
              </span>
            </span>
            {props.answers && <Button onClick={() => withdraw.mutate(i.invitation)}>Withdraw</Button>}
          </li>
        ))}
      </ul>
      <Problem of={withdraw.error} />
    </Sheet>
  );
}

/** Invites somebody on behalf of a person. */
export function Invite({ user, done }: { user: string; done: () => void }) {
  const invite = useMutation({
    mutationFn: (body: object) => ask("/v1/invitations", { method: "POST", body: JSON.stringify(body) }),
    onSettled: done,
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    invite.mutate({ from: user, to: form.get("to"), room: form.get("room") });
  };
  return (
    <>
      <form onSubmit={submit} className="flex flex-wrap items-end gap-3 border-line border-t p-4 text-sm">
        <TextField label="Invite (user id)" name="to" hint="w-02" required />
        <TextField label="Into the room" name="room" hint="call.upstream" required wide />
        <Button submit disabled={invite.isPending}>
          Invite
        </Button>
      </form>
      <Problem of={invite.error} />
    </>
  );
}

/** The passes of a person for rooms that ask. Nothing if there are none. */
export function Passes({ user, answers }: { user: string; answers: boolean }) {
  const path = `/v1/people/${encodeURIComponent(user)}/passes`;
  const { data, again } = useMeetings<Shape<"Passes">>(["passes", user], path, { user });
  const now = useNow();
  const revoke = useMutation({
    mutationFn: (room: string) =>
      ask(`/v1/rooms/${room}/passes/${encodeURIComponent(user)}`, { method: "DELETE" }),
    onSettled: again,
  });
  const passes = data?.passes ?? [];
  if (passes.length === 0) return null;
  return (
    <Sheet title={passes.length === 1 ? "1 pass" : `${passes.length} passes`}>
      <ul className="divide-y divide-line text-sm" data-passes={passes.length}>
        {passes.map(({ room, until }) => (
          <li key={room} className="flex items-center gap-2 px-4 py-2">
            <span className="grow">
              <span className="font-mono text-xs">{room}</span>
              <span className="block text-muted text-xs" title={exact(until)}>
                for {lasting(Math.max(0, Date.parse(until) - now))} more
              </span>
            </span>
            {answers && <Button onClick={() => revoke.mutate(room)}>Revoke</Button>}
          </li>
        ))}
      </ul>
      <Problem of={revoke.error} />
    </Sheet>
  );
}
