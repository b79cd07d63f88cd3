import type { Link as ServiceLink } from "@client/link";
import type { Room } from "@client/replica";
import type { Member } from "@client/wire";
import { useMutation, useQuery } from "@tanstack/react-query";
import { type FormEvent, lazy, Suspense, useEffect, useMemo, useRef, useState } from "react";
import { Link } from "wouter";
import { ask, type Journal, query, useAskAgain, useSessions } from "../api";
import { useFeed, useMoment, useNow, useWatch } from "../live";
import { useNames } from "../names";
import type { SignedIn } from "../operator";
import { Button, Confirm, Problem, TextField } from "../parts/controls";
import { PersonLink } from "../parts/entries";
import { Because, Feed, FeedLine, Name } from "../parts/feed";
import { Frame, Refused, RoomTitle, Sheet } from "../parts/frame";
import { Asks, Invitations } from "../parts/meeting";
import { Members } from "../parts/members";
import { type Policy, PolicyTimeline } from "../parts/policy";
import { StatusMark } from "../parts/status-mark";
import { overs } from "../service-words";
import { lasting, people } from "../words";

/** The charts are loaded when needed. */
const RoomLanes = lazy(async () => ({ default: (await import("../lanes/room-lanes")).RoomLanes }));

/** A room: who is in it, what happened, and its policy, live. */
export function RoomPage(props: { room: string; operator: SignedIn; onSignOut: () => void }) {
  const { operator } = props;
  const [{ state, rooms }, link] = useWatch([{ room: props.room, detail: "members" }]);
  const lines = useFeed(link);
  const now = useNow();
  const moment = useMoment();
  const room = rooms.get(props.room);
  const pages = useLargeRoom(link, props.room, room);
  const kinds = useSessionKinds(link, props.room, (room?.count.people ?? 0) > 200);
  const remove = useMutation({
    mutationFn: (user: string) =>
      ask(`/v1/rooms/${props.room}/members/${encodeURIComponent(user)}`, { method: "DELETE" }),
  });
  return (
    <Frame title={props.room} state={state} onSignOut={props.onSignOut}>
      <nav className="pb-1 text-sm">
        <Link href="/" className="text-water hover:underline">
          All rooms
        </Link>
      </nav>
      <RoomTitle name={props.room} count={room?.count} />
      {state.word === "refused" ? (
        <Refused state={state} />
      ) : (
        <div className="space-y-5">
          <Suspense fallback={null}>
            <Sheet title="Lanes: what happened, and what others saw">
              <RoomLanes key={`${moment}`} name={props.room} room={room} moment={moment} />
            </Sheet>
          </Suspense>
          <div className="grid grid-cols-[minmax(0,1fr)] gap-5 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)] lg:items-start">
            <Sheet title={room ? shares(room) : "Members"}>
              {room ? (
                <div>
                  <Members
                    room={room}
                    list={pages?.members}
                    onEnd={pages?.more}
                    now={now}
                    linked
                    kinds={(m) => kinds.get(m.user)}
                    act={
                      operator.role === "operate"
                        ? (m) => (
                            <Confirm
                              small
                              label="Remove"
                              name={`Remove ${m.name ?? m.user}`}
                              title={`Remove ${m.name ?? m.user} from ${props.room}?`}
                              text="They leave the room now, and their present tokens are refused there. A newer token is accepted."
                              onConfirm={() => remove.mutate(m.user)}
                            />
                          )
                        : undefined
                    }
                  />
                  {pages && (
                    <p className="border-line border-t px-4 py-2 text-muted text-xs">
                      {pages.members.length} of {people(room.count.people)}, by id; the list is{" "}
                      {lasting(now - pages.at)} old. More comes when you scroll.
                    </p>
                  )}
                  <Problem of={remove.error} />
                </div>
              ) : (
                <p className="p-6 text-muted">Waiting for the service…</p>
              )}
            </Sheet>
            <div className="space-y-5">
              <Asks room={props.room} answers={operator.role !== "read"} />
              <Invitations room={props.room} answers={operator.role !== "read"} />
              <Expected room={props.room} members={room?.members} large={pages !== undefined} />
              <Sheet title="What others saw">
                <div className="max-h-80 overflow-y-auto">
                  <Feed lines={lines} linked />
                  <Before room={props.room} />
                </div>
              </Sheet>
              {operator.role !== "read" && <Cue room={props.room} />}
              <PolicyHere room={props.room} />
            </div>
          </div>
        </div>
      )}
    </Frame>
  );
}

/** "12 people: 9 online, 2 away, 1 busy". */
function shares({ count }: Room): string {
  const parts = (["online", "away", "busy"] as const)
    .filter((status) => count[status].people > 0)
    .map((status) => `${count[status].people} ${status}`);
  return `${people(count.people)}${parts.length > 0 ? `: ${parts.join(", ")}` : ""}`;
}

/** The shortest interval for reloading the list of a large room, whose members are not followed. */
const refresh = 5000;

interface Pages {
  readonly members: readonly Member[];
  readonly at: number;
  more(): void;
}

/** The members of a room that is too large to follow, in pages. */
function useLargeRoom(
  link: ServiceLink | undefined,
  name: string,
  room: Room | undefined,
): Pages | undefined {
  const large = room?.members !== undefined && room.members.size < room.count.people;
  const [list, setList] = useState<{ members: readonly Member[]; rev: string; next?: string; at: number }>();
  const [wanted, setWanted] = useState(1);
  const asking = useRef(false);
  const count = large && `${room.count.people} ${room.count.sessions}`;
  useEffect(() => {
    if (!count || !link || asking.current) return;
    asking.current = true;
    const timer = setTimeout(
      async () => {
        try {
          let page = await link.members(name, { limit: 1000 });
          const members = [...page.members];
          for (let n = 1; n < wanted && page.next; n++) {
            page = await link.members(name, { rev: page.rev, after: page.next, limit: 1000 });
            members.push(...page.members);
          }
          setList({ members, rev: page.rev, at: Date.now(), ...(page.next && { next: page.next }) });
        } catch {
          // The link was lost; the next one brings the count again.
        }
        asking.current = false;
      },
      list ? Math.max(0, list.at + refresh - Date.now()) : 0,
    );
    return () => {
      clearTimeout(timer);
      asking.current = false;
    };
  }, [count, link, name, wanted, list]);
  if (!large || !list) return undefined;
  return {
    members: list.members,
    at: list.at,
    more() {
      if (!list.next || !link || asking.current) return;
      asking.current = true;
      link
        .members(name, { rev: list.rev, after: list.next, limit: 1000 })
        .then(
          (page) => {
            setWanted((n) => n + 1);
            setList({
              members: [...list.members, ...page.members],
              rev: page.rev,
              at: list.at,
              ...(page.next && { next: page.next }),
            });
          },
          () => {},
        )
        .finally(() => {
          asking.current = false;
        });
    },
  };
}

/** The kinds of links of people's sessions, by user. */
function useSessionKinds(
  link: ServiceLink | undefined,
  room: string,
  large: boolean,
): ReadonlyMap<string, string> {
  const sessions = useSessions(room);
  const again = useAskAgain([["sessions", room]], large ? refresh : 300);
  useEffect(() => link?.onChange(again), [link, again]);
  return useMemo(() => {
    const words = new Map<string, string>();
    for (const [user, list] of Map.groupBy(sessions.data?.sessions ?? [], (s) => s.user)) {
      const kinds = new Set(list.map((s) => s.device ?? (s.no_input ? "device" : (overs[s.over] ?? s.over))));
      const waiting = list.filter((s) => s.state === "grace").length;
      words.set(user, [...kinds].join(", ") + (waiting > 0 ? `; ${waiting} in grace` : ""));
    }
    return words;
  }, [sessions.data]);
}

/** Who joined and left before the page was opened, newest first. */
function Before({ room }: { room: string }) {
  const [opened] = useState(() => new Date().toISOString());
  const past = useQuery({
    queryKey: ["before", room, opened],
    queryFn: () =>
      ask<Journal>(
        `/v1/journal${query({ room, kind: ["member.joined", "member.left"], to: opened, limit: 20 })}`,
      ),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const entries = [...(past.data?.entries ?? [])].reverse();
  const nameOf = useNames(entries.flatMap(({ user }) => user ?? []));
  if (entries.length === 0) return null;
  return (
    <>
      <p className="border-line border-y bg-wash/50 px-4 py-1 text-muted text-xs">
        Before you opened this page
      </p>
      <ol className="divide-y divide-line text-sm" data-before>
        {entries.map(({ id, at, kind, user = "", reason }) => (
          <FeedLine key={id} at={at}>
            <Name user={user} name={nameOf(user)} linked /> {kind === "member.joined" ? "joined" : "left"}
            <Because reason={reason} />
          </FeedLine>
        ))}
      </ol>
    </>
  );
}

/** The people whom a declared room expects and who are missing. */
function Expected(props: { room: string; members: ReadonlyMap<string, Member> | undefined; large: boolean }) {
  const declared = useQuery({
    queryKey: ["expected", props.room],
    queryFn: () =>
      ask<{ declared: boolean; expected: readonly string[] }>(`/v1/rooms/${props.room}/expected`),
  });
  const expected = declared.data?.expected ?? [];
  const missing = expected.filter((user) => !props.members?.has(user));
  const nameOf = useNames(missing);
  if (!declared.data?.declared || props.large) return null;
  return (
    <Sheet title={`Expected: ${people(expected.length)}`}>
      <div className="px-4 py-3 text-sm" data-missing={missing.length}>
        {missing.length === 0 ? (
          <p>All of them are here.</p>
        ) : (
          <>
            <p className="pb-1">{people(missing.length)} missing:</p>
            <ul className="flex flex-wrap gap-x-4 gap-y-1">
              {missing.map((user) => (
                <li key={user} className="inline-flex items-center gap-2">
                  <StatusMark status="offline" label="not here" />
                  <PersonLink user={user} name={nameOf(user)} />
                </li>
              ))}
            </ul>
          </>
        )}
      </div>
    </Sheet>
  );
}

/** Gives a cue to everybody in the room. */
function Cue({ room }: { room: string }) {
  const give = useMutation({
    mutationFn: (body: string) => ask<{ links: number }>(`/v1/rooms/${room}/cues`, { method: "POST", body }),
  });
  const [wrong, setWrong] = useState<Error | null>(null);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = String(form.get("data"));
    try {
      setWrong(null);
      give.mutate(JSON.stringify({ name: form.get("name"), data: text ? JSON.parse(text) : undefined }));
    } catch {
      setWrong(
        new Error(
          "The data is not JSON; allowed: any JSON value, such as {“sluice”: “mill-lane”}, or nothing",
        ),
      );
    }
  };
  return (
    <Sheet title="Give a cue">
      <form onSubmit={submit} className="flex flex-wrap items-end gap-3 p-4 text-sm">
        <TextField label="Name" name="name" value="drill" required />
        <TextField label="Data (JSON)" name="data" hint={'{"gauge": 3}'} wide />
        <Button submit disabled={give.isPending}>
          Give it
        </Button>
      </form>
      <p role="status" className="px-4 pb-3 text-muted text-sm empty:hidden">
        {give.data && `It went to ${give.data.links === 1 ? "1 link" : `${give.data.links} links`}.`}
      </p>
      <Problem of={wrong ?? give.error} />
    </Sheet>
  );
}

function PolicyHere({ room }: { room: string }) {
  const policies = useQuery({
    queryKey: ["policies", room],
    queryFn: () => ask<{ policies: readonly Policy[] }>(`/v1/policies${query({ room })}`),
  });
  const policy = policies.data?.policies[0];
  if (!policy) return null;
  return (
    <Sheet
      title={policy.pattern ? `The policy in force: ${policy.pattern}` : "The policy in force: the realm's"}
    >
      <div className="space-y-2 p-4">
        <PolicyTimeline policy={policy} />
        <p className="text-sm">
          <Link href="/policies" className="text-water underline underline-offset-2">
            All policies, and what they mean
          </Link>
        </p>
      </div>
    </Sheet>
  );
}
