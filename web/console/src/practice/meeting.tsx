import type { Link } from "@client/link";
import { askSentence } from "@client/meeting";
import { membersOf } from "@client/replica";
import type { Refused } from "@client/requests";
import { outcomes } from "../service-words";
import type { PlayedPage } from "./played-page";

const small = "rounded-md border border-line px-1.5 py-0.5 text-xs hover:bg-wash";

interface Place {
  readonly played: PlayedPage;
  readonly link: Link;
  readonly did: (what: string) => void;
}

/** Below a page's screen: the gate, which people ask to enter, and the call, which engages them. */
export function Meeting({ played, did }: { played: PlayedPage; did: (what: string) => void }) {
  const { link } = played;
  if (link?.snapshot.state.word !== "open") return <div className="h-14" />;
  return (
    <div className="min-h-14 space-y-1 pb-1 text-xs" data-meeting>
      <Gate played={played} link={link} did={did} />
      <Call played={played} link={link} did={did} />
    </div>
  );
}

/** Where somebody is let in, or lets others in. */
function Gate({ played, link, did }: Place) {
  const { gate } = played.places;
  const { meeting, rooms, opened } = link.snapshot;
  const inside = rooms.get(gate)?.members?.has(opened?.user ?? "");
  const own = meeting.asked.get(gate);
  const waits = own && !own.outcome;
  const act = (label: string, said: string, run: () => void) => (
    <button
      type="button"
      className={small}
      onClick={() => {
        did(said);
        run();
      }}
    >
      {label}
    </button>
  );
  return (
    <>
      <p className="flex flex-wrap items-center gap-1.5">
        <span className="grow text-muted">
          {inside ? "In the gate room" : askSentence(own) || "The gate"}
        </span>
        {inside && act("Leave the gate", "left the gate room", () => void link.leave(gate))}
        {waits && act("Stop asking", "stopped asking", () => void link.leave(gate))}
        {!inside &&
          !waits &&
          act("Enter the gate", "went to the gate", () => void link.join(gate).catch(() => {}))}
      </p>
      {(meeting.asks.get(gate) ?? []).map((ask) => (
        <p key={ask.ask} className="flex items-center gap-1.5 text-water" data-asks={ask.name}>
          <span className="grow truncate">{ask.name} asks</span>
          {act("Admit", `let ${ask.name} in`, () => void link.admit(ask.ask))}
          {act("Refuse", `refused ${ask.name}`, () => void link.refuse(ask.ask))}
        </p>
      ))}
      {rooms.get(gate)?.problem && !own && (
        <p className="text-lamp">{rooms.get(gate)?.problem?.allowed ?? rooms.get(gate)?.problem?.detail}</p>
      )}
    </>
  );
}

/** Inviting others into a call, answering, and hanging up. */
function Call({ played, link, did }: Place) {
  const { call } = played.places;
  const { meeting, rooms, opened } = link.snapshot;
  const user = opened?.user ?? "";
  const others = membersOf(rooms.get(call), user);
  const inside = rooms.get(call)?.members?.has(user);
  const { received, sent } = meeting.invitations;
  const run = (said: string, what: () => Promise<unknown>) => () => {
    did(said);
    what().catch((why: Refused) => did(`could not: ${why.problem.detail}`));
  };
  const free = membersOf(rooms.get(played.room), user).filter(
    (m) => !others.includes(m) && !sent.some((i) => i.to.user === m.user),
  );
  const dial = (to: string) => async () => {
    await link.invite(to, call);
    if (!inside) await link.join(call);
  };
  return (
    <>
      {inside && (
        <p className="flex items-center gap-1.5" data-call>
          <span className="grow text-heather">
            In a call{others.length > 0 ? ` with ${others.map((m) => m.name).join(", ")}` : ", alone"}
          </span>
          <button type="button" className={small} onClick={run("hung up", () => link.leave(call))}>
            Hang up
          </button>
        </p>
      )}
      {received.map((i) => (
        <p key={i.invitation} className="flex items-center gap-1.5 text-water" data-invites={i.from.name}>
          <span className="grow truncate">{i.from.name} calls</span>
          <button
            type="button"
            className={small}
            onClick={run("answered the call", () => link.accept(i.invitation))}
          >
            Accept
          </button>
          <button
            type="button"
            className={small}
            onClick={run("declined the call", () => link.decline(i.invitation))}
          >
            Decline
          </button>
        </p>
      ))}
      {sent.map((i) => (
        <p key={i.invitation} className="flex items-center gap-1.5">
          <span className="grow truncate text-muted">Calling {i.to.name}…</span>
          <button
            type="button"
            className={small}
            onClick={run("gave up calling", () => link.withdraw(i.invitation))}
          >
            Give up
          </button>
        </p>
      ))}
      {meeting.ended && sent.length === 0 && !inside && meeting.ended.from.user === user && (
        <p className="text-muted">The call {outcomes[meeting.ended.outcome]}.</p>
      )}
      <p className="flex flex-wrap gap-1.5">
        {free.map((m) => (
          <button
            key={m.user}
            type="button"
            className={small}
            onClick={run(`called ${m.name}`, dial(m.user))}
          >
            Call {m.name}
          </button>
        ))}
      </p>
    </>
  );
}
