// @vitest-environment happy-dom
import { act, StrictMode } from "react";
import { createRoot, type Root } from "react-dom/client";
import { afterEach, describe, expect, test } from "vitest";
import type { Link, Snapshot } from "./link";
import { nothing } from "./meeting";
import {
  TovikLink,
  useAsks,
  useCount,
  useInRoom,
  useInvitations,
  useLinkState,
  useOwnAsk,
  usePerson,
  useRoomMembers,
  useRoomTyping,
} from "./react";
import type { Room } from "./replica";
import type { Member } from "./wire";

(globalThis as { IS_REACT_ACT_ENVIRONMENT?: boolean }).IS_REACT_ACT_ENVIRONMENT = true;

/** A link that a test plays. */
class Played {
  snapshot: Snapshot = {
    state: { word: "open", over: "websocket" },
    rooms: new Map(),
    people: new Map(),
    dropped: [],
    meeting: nothing,
  };
  told: string[] = [];
  listeners = new Set<() => void>();
  closed = 0;

  subscribe = (listener: () => void) => {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  };
  onCue = () => () => {};
  #tell = async (what: string) => void this.told.push(what);
  join = (room: string) => this.#tell(`join ${room}`);
  leave = (room: string) => this.#tell(`leave ${room}`);
  admit = (ask: string) => this.#tell(`admit ${ask}`);
  decline = (invitation: string) => this.#tell(`decline ${invitation}`);
  watchPeople = (people: string[]) => this.#tell(`watch ${people}`);
  unwatchPeople = (people: string[]) => this.#tell(`unwatch ${people}`);
  typing = (room: string, on: boolean) => this.#tell(`typing ${room} ${on}`);
  sent = (room: string) => this.#tell(`sent ${room}`);

  knows(change: Partial<Snapshot>): void {
    this.snapshot = { ...this.snapshot, ...change };
    act(() => {
      for (const listener of this.listeners) listener();
    });
  }
}

let root: Root | undefined;
afterEach(() => act(() => root?.unmount()));

function mount(link: Played, page: React.ReactNode): HTMLElement {
  const host = document.createElement("div");
  root = createRoot(host);
  const open = () => ({ link: link as unknown as Link, close: () => void link.closed++ });
  act(() =>
    root?.render(
      <StrictMode>
        <TovikLink open={open}>{page}</TovikLink>
      </StrictMode>,
    ),
  );
  return host;
}

const tally = { people: 0, sessions: 0 };
const ilse: Member = { user: "e-01", name: "Ilse", status: "online", since: "", sessions: 1 };
const room = (...members: Member[]): Room => ({
  room: "desk.night",
  rev: "r.1",
  count: { people: members.length, sessions: members.length, online: tally, away: tally, busy: tally },
  members: new Map(members.map((m) => [m.user, m])),
  typing: [],
});

function Desk() {
  useInRoom("desk.night");
  const members = useRoomMembers("desk.night");
  const typing = useRoomTyping("desk.night");
  return (
    <>
      <p>{`${useLinkState().word} ${useCount("desk.night")?.people ?? "?"} ${members.map((m) => m.name)}`}</p>
      <i>{typing.sentence}</i>
      <button type="button" onClick={() => typing.changed("The water")}>
        write
      </button>
    </>
  );
}

describe("the hooks", () => {
  test("follow the link under StrictMode, and undo what they did", () => {
    const link = new Played();
    const host = mount(link, <Desk />);
    expect(host.querySelector("p")?.textContent).toBe("open ? ");
    link.knows({ rooms: new Map([["desk.night", room(ilse)]]) });
    expect(host.querySelector("p")?.textContent).toBe("open 1 Ilse");
    link.knows({ rooms: new Map([["desk.night", { ...room(ilse), typing: ["e-01"] }]]) });
    expect(host.querySelector("i")?.textContent).toBe("Ilse is typing");
    act(() => host.querySelector("button")?.click());
    expect(link.told.filter((t) => t.startsWith("typing"))).toEqual(["typing desk.night true"]);
    const joins = link.told.filter((t) => t === "join desk.night").length;
    expect(joins - link.told.filter((t) => t === "leave desk.night").length).toBe(1);

    act(() => root?.unmount());
    expect(link.told.slice(-2).sort()).toEqual(["leave desk.night", "typing desk.night false"]);
    expect(link.listeners.size).toBe(0);
    expect(link.closed).toBe(2); // StrictMode opens and closes once more
  });

  test("show who asks and who invites, and answer", () => {
    const link = new Played();
    function Gate() {
      const { asks, admit } = useAsks("desk.gate");
      const { received, decline } = useInvitations();
      return (
        <>
          <p>{`${asks.map((a) => a.name)} ${useOwnAsk("desk.gate")?.outcome ?? "in"} ${received.map((i) => i.room)}`}</p>
          <button type="button" onClick={() => asks[0] && admit(asks[0].ask)}>
            admit
          </button>
          <button type="button" onClick={() => received[0] && decline(received[0].invitation)}>
            decline
          </button>
        </>
      );
    }
    const host = mount(link, <Gate />);
    const ask = { ask: "ask-1", room: "desk.gate", user: "w-02", name: "Tobin", since: "", until: "" };
    const invitation = {
      invitation: "i-1",
      room: "call.up",
      from: { user: "e-01" },
      to: { user: "w-04" },
      since: "",
      until: "",
    };
    link.knows({
      meeting: {
        asks: new Map([["desk.gate", [ask]]]),
        asked: new Map([["desk.gate", { ask: "ask-2", room: "desk.gate", outcome: "expired" }]]),
        invitations: { received: [invitation], sent: [] },
      },
    });
    expect(host.querySelector("p")?.textContent).toBe("Tobin expired call.up");
    for (const button of host.querySelectorAll("button")) act(() => button.click());
    expect(link.told.slice(-2)).toEqual(["admit ask-1", "decline i-1"]);
  });

  test("watch somebody for as long as they are shown", () => {
    const link = new Played();
    function Who() {
      return <b>{usePerson("w-04")?.status ?? "unknown"}</b>;
    }
    const host = mount(link, <Who />);
    expect(host.textContent).toBe("unknown");
    link.knows({ people: new Map([["w-04", { type: "person", user: "w-04", status: "away" }]]) });
    expect(host.textContent).toBe("away");
    act(() => root?.unmount());
    expect(link.told.at(-1)).toBe("unwatch w-04");
  });
});
