import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useMemo } from "react";
import { Link } from "wouter";
import {
  ask,
  type Explanation,
  faultOf,
  type Journal,
  query,
  type Session,
  useEvents,
  useJournalStream,
} from "../api";
import { useMoment, useNow } from "../live";
import type { SignedIn } from "../operator";
import { Button, Confirm, Problem } from "../parts/controls";
import { Entries } from "../parts/entries";
import { Frame, Sheet } from "../parts/frame";
import { Invitations, Invite, Passes } from "../parts/meeting";
import { StatusMark } from "../parts/status-mark";
import { overs, rules } from "../service-words";
import { actWords, clock, exact, lasting } from "../words";

/** A person: how others see them, why, through which sessions, and what happened. */
export function PersonPage(props: { user: string; operator: SignedIn; onSignOut: () => void }) {
  const { user } = props;
  const moment = useMoment();
  const client = useQueryClient();
  const path = `/v1/people/${encodeURIComponent(user)}`;
  const explanation = useQuery({
    queryKey: ["explain", user],
    queryFn: () => ask<Explanation>(`${path}/explain`),
  });
  const fault = faultOf(explanation);
  const past = useQuery({
    queryKey: ["past", user],
    queryFn: () => ask<Journal>(`/v1/journal${query({ user, limit: 30 })}`),
  });
  const open = useJournalStream(
    { user },
    ["past", user],
    () => void client.invalidateQueries({ queryKey: ["past", user] }),
  );
  const known = explanation.data !== undefined && !fault;
  useEvents(known ? `explain ${user}` : undefined, () => `${path}/explain`, {
    explanation: (data) => client.setQueryData(["explain", user], JSON.parse(data)),
  });
  return (
    <Frame title={user} heard={open} onSignOut={props.onSignOut}>
      <nav className="pb-1 text-sm">
        <Link href="/people" className="text-water hover:underline">
          All people
        </Link>
      </nav>
      {fault ? (
        <Sheet title={user}>
          <p role="alert" className="p-4">
            {fault.message}.
          </p>
        </Sheet>
      ) : explanation.data ? (
        <>
          <Title explanation={explanation.data} />
          <Suspense fallback={null}>
            <div className="pb-5">
              <Sheet title="Lanes: what happened, and what others saw">
                <Lanes user={user} explanation={explanation.data} moment={moment} />
              </Sheet>
            </div>
          </Suspense>
          <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)] lg:items-start">
            <div className="space-y-5">
              <Sheet title="Explanation">
                <Rules explanation={explanation.data} />
              </Sheet>
              <Sheet
                title={
                  explanation.data.sessions.length === 1
                    ? "1 session"
                    : `${explanation.data.sessions.length} sessions`
                }
              >
                <Sessions list={explanation.data.sessions} />
              </Sheet>
            </div>
            <div className="space-y-5">
              <Acts
                user={user}
                operator={props.operator}
                path={path}
                done={() => void client.invalidateQueries({ queryKey: ["explain", user] })}
              />
              <Invitations user={user} answers={props.operator.role !== "read"} />
              <Passes user={user} answers={props.operator.role !== "read"} />
              <Sheet title="What happened">
                <div className="max-h-[28rem] overflow-y-auto" data-past>
                  <Entries entries={[...(past.data?.entries ?? [])].reverse()} about="user" />
                </div>
                <p className="border-line border-t px-4 py-2 text-sm">
                  <Link href={`/journal${query({ user })}`} className="text-water hover:underline">
                    All of it in the journal
                  </Link>
                </p>
              </Sheet>
            </div>
          </div>
        </>
      ) : (
        <p className="text-muted">Waiting for the service…</p>
      )}
    </Frame>
  );
}

/** The charts are loaded when needed. */
const PersonLanes = lazy(async () => ({ default: (await import("../lanes/person-lanes")).PersonLanes }));

function Lanes({
  user,
  explanation,
  moment,
}: {
  user: string;
  explanation: Explanation;
  moment: number | undefined;
}) {
  const rooms = useQuery({
    queryKey: ["rooms-of", user],
    queryFn: () =>
      ask<{ rooms: readonly { room: string; since: string }[] }>(
        `/v1/people/${encodeURIComponent(user)}/rooms`,
      ),
    staleTime: Number.POSITIVE_INFINITY, // later ones are in the journal
  });
  const present = useMemo(
    () => (rooms.data?.rooms ?? []).map(({ room, since }) => ({ user, room, since: Date.parse(since) })),
    [rooms.data, user],
  );
  return (
    <PersonLanes key={moment} user={user} sessions={explanation.sessions} present={present} moment={moment} />
  );
}

function Title({ explanation }: { explanation: Explanation }) {
  const engaged = explanation.rules.some((rule) => rule.decides && rule.rule === "engaged");
  return (
    <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 pb-4" data-shown={explanation.status}>
      <h1 className="font-semibold text-2xl tracking-tight">{explanation.name ?? explanation.user}</h1>
      <span className="font-mono text-muted text-sm">{explanation.user}</span>
      <StatusMark status={explanation.status} engaged={engaged} />
      {explanation.note && <span className="text-muted text-sm">{explanation.note}</span>}
      {explanation.until && (
        <span className="text-muted text-sm" title={exact(explanation.until)}>
          until {clock(explanation.until)}
        </span>
      )}
      {explanation.open && <span className="text-lamp text-sm">hides; others see {explanation.open}</span>}
    </div>
  );
}

/** The rules in the order in which they apply; the first that applies decides. */
function Rules({ explanation }: { explanation: Explanation }) {
  return (
    <div className="space-y-4 p-4 text-sm" data-explanation>
      <ol className="space-y-1.5">
        {explanation.rules.map((rule, i) => (
          <li
            key={rule.rule}
            data-decides={rule.decides || undefined}
            className={`grid grid-cols-[1.5rem_minmax(0,1fr)_auto] items-baseline gap-x-2 rounded-md border px-3 py-1.5 ${
              rule.decides ? "border-water bg-wash font-medium" : "border-line text-muted"
            }`}
          >
            <span aria-hidden="true">{i + 1}.</span>
            <span>
              If {rules[rule.rule] ?? rule.rule}: {rule.status}
            </span>
            <span className="text-xs">
              {rule.decides ? "holds, and decides" : rule.holds ? "holds, but comes later" : "does not hold"}
            </span>
          </li>
        ))}
      </ol>
      <div className="space-y-1.5">
        {explanation.words.map((sentence) => (
          <p key={sentence}>{sentence}</p>
        ))}
      </div>
    </div>
  );
}

function Sessions({ list }: { list: readonly Session[] }) {
  const now = useNow(250);
  if (list.length === 0)
    return (
      <p className="p-4 text-muted text-sm">None: no page, device or process of theirs has a session.</p>
    );
  return (
    <ul className="divide-y divide-line text-sm">
      {list.map((s) => {
        const first = s.next[0];
        return (
          <li key={s.session} className="space-y-1 px-4 py-3" data-session={s.state}>
            <p>
              <b className="font-semibold">
                {s.state === "grace" ? `In its grace (${s.reason})` : s.idle ? "Live, idle" : "Live"}
              </b>{" "}
              over {overs[s.over] ?? s.over}, since{" "}
              <time dateTime={s.opened} title={exact(s.opened)}>
                {clock(s.opened)}
              </time>
              {s.page_hidden && ", page hidden"}
              {s.device && `, on a ${s.device}`}
              {s.no_input && ", without human input"}
            </p>
            <p className="text-muted">
              Heard of {lasting(now - Date.parse(s.last_heard))} ago, touched{" "}
              {lasting(now - Date.parse(s.last_activity))} ago
              {s.rooms.length > 0 && (
                <>
                  {"; in "}
                  {s.rooms.map((room) => (
                    <Link
                      key={room}
                      href={`/rooms/${room}`}
                      className="mr-2 font-mono text-water text-xs underline decoration-1 underline-offset-2 hover:decoration-current"
                    >
                      {room}
                    </Link>
                  ))}
                </>
              )}
            </p>
            {first && (
              <p data-next>
                If nothing more is heard: {actWords(first.act, first.room)} in{" "}
                <b className="font-semibold">{lasting(Math.max(0, Date.parse(first.at) - now))}</b>
              </p>
            )}
          </li>
        );
      })}
    </ul>
  );
}

/** The actions of an operator. */
function Acts(props: { user: string; operator: SignedIn; path: string; done: () => void }) {
  const { user, path } = props;
  const act = useMutation({
    mutationFn: ([method, to, body]: readonly [string, string, object?]) =>
      ask(path + to, { method, ...(body && { body: JSON.stringify(body) }) }),
    onSettled: props.done,
  });
  if (props.operator.role === "read") return null;
  return (
    <Sheet title="In their place">
      <div className="flex flex-wrap gap-2 p-4 text-sm">
        <Button onClick={() => act.mutate(["PUT", "/status", { status: "busy" }])}>Set busy</Button>
        <Button onClick={() => act.mutate(["PUT", "/status", { status: "away" }])}>Set away</Button>
        <Button onClick={() => act.mutate(["DELETE", "/status"])}>Clear status</Button>
        <Confirm
          label="Sign them out"
          title={`Sign ${user} out?`}
          text="All their sessions end now, and others see them leave. Their tokens stay valid, so they may come back."
          onConfirm={() => act.mutate(["POST", "/sign-out"])}
        />
        {props.operator.role === "operate" && (
          <Confirm
            label="Erase"
            title={`Erase ${user}?`}
            text="All their sessions end, and everything on record about them is deleted: the directory, the journal, the headcounts' evidence. This cannot be undone."
            onConfirm={() => act.mutate(["POST", "/erasure"])}
          />
        )}
      </div>
      <Problem of={act.error} />
      <Invite user={user} done={props.done} />
    </Sheet>
  );
}
