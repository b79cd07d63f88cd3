import { membersOf } from "@client/replica";
import { typingSentence } from "@client/typing";
import { useState, useSyncExternalStore } from "react";
import { StatusMark } from "../parts/status-mark";
import { people } from "../words";
import type { Device } from "./device";
import { Knowledge } from "./knowledge";

/** What can be done with a device. */
export interface Deeds {
  readonly did: (device: Device, what: string) => void;
  readonly duplicate: (device: Device) => void;
  readonly remove: (device: Device) => void;
}

/** One device that is played: what its screen shows of the others, what can be done with it, and what the service knows. */
export function Card({ device, now, deeds }: { device: Device; now: number; deeds: Deeds }) {
  useSyncExternalStore(
    (listener) => device.subscribe(listener),
    () => device.version,
  );
  const dark = device.phase !== "open" || device.frozen;
  return (
    <section
      aria-label={nameOf(device)}
      data-device={nameOf(device)}
      onPointerDownCapture={() => device.touch()}
      onKeyDownCapture={() => device.touch()}
      className={`flex flex-col overflow-hidden border border-line bg-sheet ${device.kind === "phone" ? "rounded-3xl" : "rounded-xl"}`}
    >
      <header className="flex items-baseline gap-2 px-3 pt-2.5 pb-1.5">
        <h2 className="truncate font-medium text-sm">{device.player.name}</h2>
        <span className="whitespace-nowrap text-muted text-xs">
          {device.kind} {device.number}
        </span>
        <span className="grow" />
        <ScreenState device={device} />
      </header>
      <div className={`grow px-3 ${dark ? "opacity-45" : ""}`} inert={dark}>
        <Screen device={device} did={(what) => deeds.did(device, what)} />
      </div>
      <Buttons device={device} deeds={deeds} />
      <Knowledge device={device} now={now} />
    </section>
  );
}

export function nameOf(device: Device): string {
  return `${device.player.name}, ${device.kind} ${device.number}`;
}

function ScreenState({ device }: { device: Device }) {
  const state = device.link?.snapshot.state;
  const word = device.frozen
    ? "frozen"
    : device.phase !== "open"
      ? device.phase
      : device.hidden()
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

/** What the page on the device shows: who else is here, who types, and a field to write in. */
function Screen({ device, did }: { device: Device; did: (what: string) => void }) {
  const [text, setText] = useState("");
  const snapshot = device.link?.snapshot;
  const room = snapshot?.rooms.get(device.room);
  const user = snapshot?.welcome?.user;
  const others = membersOf(room, user);
  const own = user === undefined ? undefined : room?.members?.get(user);
  const write = (value: string) => {
    setText(value);
    device.composer?.changed(value);
  };
  const send = () => {
    setText("");
    device.composer?.sent();
    did("sent what was written");
  };
  return (
    <>
      <p className="flex items-center gap-2 text-muted text-xs">
        {room ? people(room.count.people) : "…"}
        {own && (
          <>
            <span aria-hidden="true">·</span> you are <StatusMark status={own.status} />
          </>
        )}
      </p>
      <ul className="my-1.5 min-h-11 space-y-1 text-sm">
        {others.map((m) => (
          <li key={m.user} className="flex items-center justify-between gap-2" data-sees={m.name}>
            <span className="truncate">{m.name}</span>
            <span className="flex items-center gap-2 whitespace-nowrap text-xs">
              {m.sessions > 1 && <span className="text-muted">{m.sessions} devices</span>}
              <StatusMark status={m.status} />
            </span>
          </li>
        ))}
        {room && others.length === 0 && <li className="text-muted text-xs">Nobody else is here.</li>}
      </ul>
      <div className="flex gap-1.5">
        <input
          value={text}
          onChange={(e) => write(e.target.value)}
          onBlur={() => device.composer?.left()}
          onKeyDown={(e) => e.key === "Enter" && send()}
          placeholder="Write something"
          aria-label={`Write as ${device.player.name}`}
          className="min-w-0 grow rounded-md border border-line bg-paper px-2 py-1 text-sm"
        />
        <button type="button" onClick={send} disabled={text === ""} className={small}>
          Send
        </button>
      </div>
      <p className="h-5 truncate pt-0.5 text-water text-xs" data-typing role="status">
        {typingSentence(room, user)}
      </p>
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

/** What can be done with the device as it is now. */
function deedsFor(device: Device, deeds: Deeds): readonly Deed[] {
  if (device.phase === "reloading") return [];
  if (device.phase !== "open") {
    return [
      { name: "Open again", said: "opened the page anew", act: () => device.start() },
      { name: "Put away", said: "put the device away", act: () => deeds.remove(device) },
    ];
  }
  if (device.frozen)
    return [{ name: "Unlock", said: "unlocked the phone", act: () => device.setFrozen(false) }];
  if (device.link?.snapshot.state.word === "closed") {
    return [{ name: "Sign in again", said: "signed in again", act: () => device.link?.retry() }];
  }
  const shown = !device.hidden();
  const list: Deed[] = [
    { name: "Reload", said: "reloaded the page", act: () => device.reload() },
    device.cableOut
      ? { name: "Plug in", said: "plugged the cable in", act: () => device.plugCable() }
      : { name: "Pull the cable", said: "pulled the cable", act: () => device.pullCable() },
    device.walkedAway
      ? { name: "Come back", said: "came back to it", act: () => device.comeBack() }
      : { name: "Walk away", said: "walked away from it", act: () => device.walkAway() },
  ];
  if (device.kind === "phone") {
    list.push({ name: "Lock", said: "locked the phone", act: () => device.setFrozen(true) });
  } else {
    list.push(
      {
        name: shown ? "Hide" : "Show",
        said: shown ? "went to another tab" : "came back to the tab",
        act: () => device.setVisible(!shown),
      },
      { name: "Duplicate", said: "duplicated the tab", act: () => deeds.duplicate(device) },
    );
  }
  list.push(
    { name: "Close", said: "closed the page", act: () => device.close() },
    { name: "Crash", said: "ran out of battery", act: () => device.crash() },
    { name: "Sign out", said: "signed out everywhere", act: () => void device.link?.signOut() },
  );
  return list;
}

function Buttons({ device, deeds }: { device: Device; deeds: Deeds }) {
  return (
    <div className="flex min-h-16 flex-wrap content-start gap-1.5 px-3 py-2">
      {deedsFor(device, deeds).map(({ name, said, act }) => (
        <button
          key={name}
          type="button"
          className={small}
          onClick={() => {
            deeds.did(device, said);
            act();
          }}
        >
          {name}
        </button>
      ))}
    </div>
  );
}
