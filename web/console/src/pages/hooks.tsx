import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link, useLocation } from "wouter";
import { ask, query, type Shape, useAskAgain, useEvents, useJournalStream } from "../api";
import { useNow } from "../live";
import { Button, Choice, Confirm, Problem, TextField } from "../parts/controls";
import { Frame, Sheet } from "../parts/frame";
import { Table } from "../parts/table";
import { Time } from "../parts/time";
import { patterns } from "../rooms";
import { lasting } from "../words";

type Hook = Shape<"Hook">;

type Delivery = Shape<"Delivery">;

/** The kinds of events of a hook. */
const kinds = [
  "member.joined",
  "member.left",
  "room.first-in",
  "room.empty",
  "ask.opened",
  "ask.answered",
  "invitation.opened",
  "invitation.answered",
  "headcount.above",
  "headcount.below",
  "person.online",
  "person.offline",
  "status.changed",
  "quota.near",
  "quota.reached",
];

/** The journal entries that can cause deliveries, and how long after them the deliveries are reloaded. */
const told = {
  kind: [
    "member.joined",
    "member.left",
    "status.changed",
    "ask.opened",
    "ask.answered",
    "invitation.opened",
    "invitation.answered",
    "quota.near",
    "quota.reached",
  ],
};
const delivering = 150;

/** The hooks of the realm. */
export function HooksPage({ onSignOut }: { onSignOut: () => void }) {
  const [, go] = useLocation();
  const client = useQueryClient();
  const hooks = useQuery({
    queryKey: ["hooks"],
    queryFn: async () => {
      const { hooks } = await ask<{ hooks: readonly Hook[] }>("/v1/hooks");
      return Promise.all(hooks.map((hook) => ask<Hook>(`/v1/hooks/${hook.id}`)));
    },
  });
  const open = useJournalStream(told, ["hooks"], useAskAgain([["hooks"]], delivering));
  const add = useMutation({
    mutationFn: (body: object) => ask<Hook>("/v1/hooks", { method: "POST", body: JSON.stringify(body) }),
    onSuccess: (hook) => {
      client.setQueryData(["secret", hook.id], hook.secret);
      void client.invalidateQueries({ queryKey: ["hooks"] });
      go(`/hooks/${hook.id}`);
    },
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const number = (name: string) => (form.get(name) ? Number(form.get(name)) : undefined);
    add.mutate({
      name: form.get("name") || undefined,
      url: form.get("url"),
      kinds: form.getAll("kinds"),
      rooms: patterns(form.get("rooms")),
      view: form.get("view"),
      above: number("above"),
      below: number("below"),
    });
  };
  return (
    <Frame title="Hooks" heard={open} onSignOut={onSignOut}>
      <h1 className="pb-3 font-semibold text-2xl tracking-tight">Hooks</h1>
      <div className="space-y-5">
        <Problem of={hooks.error} />
        {hooks.data && (
          <Sheet>
            {hooks.data.length === 0 ? (
              <p className="p-4 text-muted text-sm">There are no hooks yet. Add one below.</p>
            ) : (
              <Table
                heads={["Hook", "Address", "Is told of", "Delivered", "Waiting", "Parked"]}
                marker="hooks"
              >
                {hooks.data.map((hook) => (
                  <tr key={hook.id} data-hook={hook.id}>
                    <td>
                      <Link
                        href={`/hooks/${hook.id}`}
                        className="font-medium text-water underline underline-offset-2"
                      >
                        {hook.name ?? hook.id}
                      </Link>
                      {hook.paused && <span className="text-lamp"> paused</span>}
                    </td>
                    <td className="break-all font-mono text-xs">{hook.url}</td>
                    <td className="text-xs">
                      {hook.kinds.join(", ")}
                      {hook.rooms && <span className="text-muted"> in {hook.rooms.join(", ")}</span>}
                    </td>
                    <td data-delivered>{hook.deliveries?.delivered ?? 0}</td>
                    <td>{hook.deliveries?.waiting ?? 0}</td>
                    <td>{hook.deliveries?.parked ?? 0}</td>
                  </tr>
                ))}
              </Table>
            )}
          </Sheet>
        )}
        <Sheet title="Make a hook">
          <form onSubmit={submit} className="space-y-3 p-4 text-sm">
            <div className="flex flex-wrap gap-3">
              <TextField label="Name" name="name" hint="siren" />
              <TextField
                label="Address"
                name="url"
                hint="https://app.example/hooks/tovik"
                type="url"
                required
                wide
              />
            </div>
            <fieldset className="flex flex-wrap gap-x-4 gap-y-1">
              <legend className="pb-1 text-muted text-xs">Is told of</legend>
              {kinds.map((kind) => (
                <label key={kind} className="inline-flex items-center gap-1.5">
                  <input type="checkbox" name="kinds" value={kind} className="accent-water" />
                  {kind}
                </label>
              ))}
            </fieldset>
            <div className="flex flex-wrap items-end gap-3">
              <TextField label="Rooms (patterns; empty: all)" name="rooms" hint="desk.*" />
              <Choice label="Sees" name="view" of={["full", "open"]} />
              <TextField label="Headcount above" name="above" type="number" />
              <TextField label="Headcount below" name="below" type="number" />
              <Button submit disabled={add.isPending}>
                Make it
              </Button>
            </div>
          </form>
          <Problem of={add.error} />
        </Sheet>
      </div>
    </Frame>
  );
}

/** A hook: its deliveries and their answers, and the actions. */
export function HookPage({ id, onSignOut }: { id: string; onSignOut: () => void }) {
  const client = useQueryClient();
  const [, go] = useLocation();
  const [state, setState] = useState("");
  const now = useNow();
  const path = `/v1/hooks/${id}`;
  const hook = useQuery({ queryKey: ["hook", id], queryFn: () => ask<Hook>(path) });
  const again = useAskAgain([["hook", id]], delivering);
  const [deliveries, setDeliveries] = useState<readonly Delivery[]>();
  const open = useEvents(`${id} ${state}`, () => `${path}/deliveries${query({ state, limit: 100 })}`, {
    deliveries: (data) => {
      setDeliveries(JSON.parse(data).deliveries);
      again();
    },
  });
  const secret = useQuery<string | undefined>({
    queryKey: ["secret", id],
    queryFn: () => undefined,
    enabled: false,
    gcTime: 60_000,
  });
  const act = useMutation({
    mutationFn: ([method, to, body]: readonly [string, string, object?]) =>
      ask<Hook & Delivery>(to, { method, ...(body && { body: JSON.stringify(body) }) }),
    onSuccess: (answer, [method, to]) => {
      if (answer?.secret) client.setQueryData(["secret", id], answer.secret);
      if (method === "DELETE" && to === path) {
        void client.invalidateQueries({ queryKey: ["hooks"] });
        go("/hooks");
      }
    },
    onSettled: again,
  });
  const tested = act.variables?.[1] === `${path}/test` ? (act.data as Delivery | undefined) : undefined;
  const it = hook.data;
  return (
    <Frame title={hook.data?.name ?? id} heard={open} onSignOut={onSignOut}>
      <nav className="pb-1 text-sm">
        <Link href="/hooks" className="text-water hover:underline">
          All hooks
        </Link>
      </nav>
      <Problem of={hook.error} />
      {it && (
        <div className="space-y-5">
          <div>
            <h1 className="font-semibold text-2xl tracking-tight">
              {it.name ?? it.id} {it.paused && <span className="text-base text-lamp">paused</span>}
            </h1>
            <p className="text-muted text-sm">
              <code>{it.url}</code> is told of {it.kinds.join(", ")}
              {it.rooms ? ` in ${it.rooms.join(", ")}` : ""}
              {it.view === "open" ? ", without those who hide" : ", with those who hide"}.
            </p>
          </div>
          <div className="flex flex-wrap gap-2 text-sm">
            <Button onClick={() => act.mutate(["POST", `${path}/test`])}>Send a test</Button>
            <Button
              onClick={() =>
                act.mutate([
                  "PUT",
                  path,
                  {
                    name: it.name,
                    url: it.url,
                    kinds: it.kinds,
                    rooms: it.rooms,
                    view: it.view,
                    above: it.above,
                    below: it.below,
                    paused: !it.paused,
                  },
                ])
              }
            >
              {it.paused ? "Go on" : "Pause"}
            </Button>
            <Confirm
              label="Rotate the secret"
              title="Give the hook another secret?"
              text="For a day requests are signed with both. The new secret is shown once."
              onConfirm={() => act.mutate(["POST", `${path}/secret`])}
            />
            <Confirm
              label="Remove"
              title={`Remove ${it.name ?? it.id}?`}
              text="It gets no more events, and its waiting deliveries are dropped."
              onConfirm={() => act.mutate(["DELETE", path])}
            />
          </div>
          {secret.data && (
            <p role="status" className="rounded-md border border-lamp bg-wash px-4 py-2.5 text-sm">
              The secret, shown this once: <code className="break-all">{secret.data}</code>
            </p>
          )}
          {tested && (
            <p role="status" data-tested={tested.state} className="text-sm">
              The test {outcome(tested)}.
            </p>
          )}
          <Problem of={act.error} />
          <Sheet title="Deliveries, the newest first">
            <div className="flex flex-wrap gap-1 px-4 py-2 text-xs">
              {["", "delivered", "waiting", "parked"].map((one) => (
                <button
                  key={one}
                  type="button"
                  aria-pressed={state === one}
                  onClick={() => setState(one)}
                  className="rounded border border-line px-2 py-0.5 hover:bg-wash aria-pressed:bg-wash aria-pressed:font-medium"
                >
                  {one === "" ? "all" : one}
                </button>
              ))}
            </div>
            <ul className="divide-y divide-line border-line border-t text-sm" data-deliveries>
              {deliveries?.map((d) => (
                <DeliveryLine key={d.id} delivery={d} now={now} onAgain={again} />
              ))}
            </ul>
            {deliveries?.length === 0 && <p className="p-4 text-muted text-sm">No delivery matches.</p>}
          </Sheet>
        </div>
      )}
    </Frame>
  );
}

/** The outcome of a delivery, as the rest of a sentence. */
function outcome(d: Delivery): string {
  const tries = d.attempts === 1 ? "1 try" : `${d.attempts} tries`;
  if (d.state === "delivered") return `was delivered: ${d.answered} after ${d.took} ms, ${tries}`;
  const because = d.error ?? (d.answered ? `the answer was ${d.answered}` : "it was not tried yet");
  return d.state === "waiting" ? `waits after ${tries}: ${because}` : `was parked after ${tries}: ${because}`;
}

const marks = { delivered: "✓", waiting: "…", parked: "✗" };

function DeliveryLine(props: { delivery: Delivery; now: number; onAgain: () => void }) {
  const { delivery: d, now } = props;
  const [shown, setShown] = useState(false);
  const whole = useQuery({
    queryKey: ["delivery", d.id, d.attempts],
    queryFn: () => ask<Delivery>(`/v1/deliveries/${d.id}`),
    enabled: shown,
  });
  const again = useMutation({
    mutationFn: () => ask(`/v1/deliveries/${d.id}/again`, { method: "POST" }),
    onSettled: props.onAgain,
  });
  const colour = d.state === "delivered" ? "text-reed" : d.state === "waiting" ? "text-lamp" : "text-flood";
  return (
    <li data-delivery={d.state} className="px-4 py-2">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <span className={`w-4 ${colour}`} aria-hidden="true">
          {marks[d.state]}
        </span>
        <button
          type="button"
          aria-expanded={shown}
          onClick={() => setShown(!shown)}
          className="font-medium text-water underline underline-offset-2"
        >
          {d.kind}
        </button>
        <span className="grow text-muted">It {outcome(d)}</span>
        {d.state === "waiting" && d.due && (
          <span className="text-lamp text-xs">next try in {lasting(Date.parse(d.due) - now)}</span>
        )}
        <span className="text-muted text-xs">
          <Time at={d.created} now={now} />
        </span>
      </div>
      {shown && (
        <div className="space-y-2 py-2 pl-7">
          <p className="text-muted text-xs">
            Event {d.event}
            {d.answer ? `; the answer began: “${d.answer}”` : "; the answer had no body"}
          </p>
          <pre className="overflow-x-auto rounded bg-wash p-3 text-xs">{pretty(whole.data?.body)}</pre>
          {d.state !== "waiting" && (
            <span className="text-sm">
              <Button onClick={() => again.mutate()}>Deliver it once more</Button>
            </span>
          )}
          <Problem of={again.error} />
        </div>
      )}
    </li>
  );
}

function pretty(body: string | undefined): string {
  if (!body) return "…";
  try {
    return JSON.stringify(JSON.parse(body), null, 2);
  } catch {
    return body;
  }
}
