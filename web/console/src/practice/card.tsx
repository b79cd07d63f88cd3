import { membersOf } from "@client/replica";
import { typingSentence } from "@client/typing";
import { useState, useSyncExternalStore } from "react";
import { StatusMark } from "../parts/status-mark";
import { people } from "../words";
import { Knowledge } from "./knowledge";
import { Meeting } from "./meeting";
import type { PlayedPage } from "./played-page";

/** An action on a page. */
export interface Deeds {
  readonly did: (played: PlayedPage, what: string) => void;
  readonly duplicate: (played: PlayedPage) => void;
  readonly remove: (played: PlayedPage) => void;
}

/** A simulated page: its screen, the actions, and what the service knows. */
export function Card({ played, now, deeds }: { played: PlayedPage; now: number; deeds: Deeds }) {
  useSyncExternalStore(
    (listener) => played.subscribe(listener),
    () => played.version,
  );
  const dark = played.phase !== "open" || played.frozen;
  return (
    <section
      aria-label={nameOf(played)}
      data-page={nameOf(played)}
      onPointerDownCapture={() => played.touch()}
      onKeyDownCapture={() => played.touch()}
      className={`flex flex-col overflow-hidden border border-line bg-sheet ${played.kind === "phone" ? "rounded-3xl" : "rounded-xl"}`}
    >
      <header className="flex items-baseline gap-2 px-3 pt-2.5 pb-1.5">
        <h2 className="truncate font-medium text-sm">{played.player.name}</h2>
        <span className="whitespace-nowrap text-muted text-xs">
          {played.kind} {played.number}
        </span>
        <span className="grow" />
        <ScreenState played={played} />
      </header>
      <div className={`grow px-3 ${dark ? "opacity-45" : ""}`} inert={dark}>
        <Screen played={played} did={(what) => deeds.did(played, what)} />
      </div>
      <Buttons played={played} deeds={deeds} />
      <Knowledge played={played} now={now} />
    </section>
  );
}

export function nameOf(played: PlayedPage): string {
  return `${played.player.name}, ${played.kind} ${played.number}`;
}

function ScreenState({ played }: { played: PlayedPage }) {
  const state = played.link?.snapshot.state;
  const word = played.frozen
    ? "frozen"
    : played.phase !== "open"
      ? played.phase
      : played.pageHidden()
        ? "hidden"
        : (state?.word ?? "");
  const fine = word === "open";
  return (
    <span
      title={state?.reason}
      className={`whitespace-nowrap text-xs ${fine ? "text-muted" : "text-lamp"}`}
      data-screen={word}
    >
      {word}
    </span>
  );
}

/** What the page shows: the other people in the room, who is typing, and a field to write in. */
function Screen({ played, did }: { played: PlayedPage; did: (what: string) => void }) {
  const [text, setText] = useState("");
  const snapshot = played.link?.snapshot;
  const room = snapshot?.rooms.get(played.room);
  const user = snapshot?.opened?.user;
  const others = membersOf(room, user);
  const own = user === undefined ? undefined : room?.members?.get(user);
  const write = (value: string) => {
    setText(value);
    played.composer?.changed(value);
  };
  const send = () => {
    setText("");
    played.composer?.sent();
    did("sent what was written");
  };
  return (
    <>
      <p className="flex items-center gap-2 text-muted text-xs">
        {room ? people(room.count.people) : "…"}
        {own && (
          <>
            <span aria-hidden="true">·</span> you are <StatusMark status={own.status} engaged={own.engaged} />
          </>
        )}
      </p>
      <ul className="my-1.5 min-h-11 space-y-1 text-sm">
        {others.map((m) => (
          <li key={m.user} className="flex items-center justify-between gap-2" data-sees={m.name}>
            <span className="truncate">{m.name}</span>
            <span className="flex items-center gap-2 whitespace-nowrap text-xs">
              {m.sessions > 1 && <span className="text-muted">{m.sessions} sessions</span>}
              <StatusMark status={m.status} engaged={m.engaged} />
            </span>
          </li>
        ))}
        {room && others.length === 0 && <li className="text-muted text-xs">Nobody else is here.</li>}
      </ul>
      <div className="flex gap-1.5">
        <input
          value={text}
          onChange={(e) => write(e.target.value)}
          onBlur={() => played.composer?.left()}
          onKeyDown={(e) => e.key === "Enter" && send()}
          placeholder="Write something"
          aria-label={`Write as ${played.player.name}`}
          className="min-w-0 grow rounded-md border border-line bg-paper px-2 py-1 text-sm"
        />
        <button type="button" onClick={send} disabled={text === ""} className={small}>
          Send
        </button>
      </div>
      <p className="h-5 truncate pt-0.5 text-water text-xs" data-typing role="status">
        {typingSentence(room, user)}
      </p>
      <Meeting played={played} did={did} />
    </>
  );
}

const small =
  "rounded-md border border-line px-2 py-1 text-xs hover:bg-wash disabled:opacity-45 disabled:hover:bg-transparent";

interface Deed {
  readonly name: string;
  readonly said: string;
  readonly act: () => void;
}

/** The actions that are possible now. */
function deedsFor(played: PlayedPage, deeds: Deeds): readonly Deed[] {
  if (played.phase === "reloading") return [];
  if (played.phase !== "open") {
    return [
      { name: "Open again", said: "opened the page anew", act: () => played.start() },
      { name: "Put away", said: "put the page away", act: () => deeds.remove(played) },
    ];
  }
  if (played.frozen)
    return [{ name: "Unlock", said: "unlocked the phone", act: () => played.setFrozen(false) }];
  if (played.link?.snapshot.state.word === "closed") {
    return [{ name: "Sign in again", said: "signed in again", act: () => played.link?.retry() }];
  }
  const shown = !played.pageHidden();
  const list: Deed[] = [
    { name: "Reload", said: "reloaded the page", act: () => played.reload() },
    played.cableOut
      ? { name: "Plug in", said: "plugged the cable in", act: () => played.plugCable() }
      : { name: "Pull the cable", said: "pulled the cable", act: () => played.pullCable() },
    played.walkedAway
      ? { name: "Come back", said: "came back to it", act: () => played.comeBack() }
      : { name: "Walk away", said: "walked away from it", act: () => played.walkAway() },
  ];
  if (played.kind === "phone") {
    list.push({ name: "Lock", said: "locked the phone", act: () => played.setFrozen(true) });
  } else {
    list.push(
      {
        name: shown ? "Hide" : "Show",
        said: shown ? "went to another tab" : "came back to the tab",
        act: () => played.setVisible(!shown),
      },
      { name: "Duplicate", said: "duplicated the tab", act: () => deeds.duplicate(played) },
    );
  }
  list.push(
    { name: "Close", said: "closed the page", act: () => played.close() },
    { name: "Crash", said: "ran out of battery", act: () => played.crash() },
    { name: "Sign out", said: "signed out everywhere", act: () => void played.link?.signOut() },
  );
  return list;
}

function Buttons({ played, deeds }: { played: PlayedPage; deeds: Deeds }) {
  return (
    <div className="flex min-h-16 flex-wrap content-start gap-1.5 px-3 py-2">
      {deedsFor(played, deeds).map(({ name, said, act }) => (
        <button
          key={name}
          type="button"
          className={small}
          onClick={() => {
            deeds.did(played, said);
            act();
          }}
        >
          {name}
        </button>
      ))}
    </div>
  );
}
