import { describe, expect, test } from "vitest";
import type { Entry, Session } from "../api";
import { short } from "./evidence";
import { barsOf, gapsOf, merge, staysOf, tracksOf } from "./lanes";

const day = Date.UTC(2026, 10, 23);
const at = (second: number) => new Date(day + second * 1000).toISOString();
const ms = (second: number) => day + second * 1000;
let id = 0;
const entry = (second: number, kind: string, more: Partial<Entry> = {}): Entry => ({
  id: ++id,
  at: at(second),
  kind,
  user: "e-01",
  session: "s-1",
  ...more,
});

const now: Session = {
  session: "s-1",
  user: "e-01",
  state: "live",
  over: "websocket",
  link: 1,
  opened: at(0),
  last_heard: at(50),
  last_activity: at(40),
  idle: false,
  page_hidden: false,
  rooms: [],
  next: [],
};

const spans = (
  list: readonly { from: number; to?: number | undefined; state?: string; reason?: string | undefined }[],
) =>
  list.map(({ from, to, state, reason }) =>
    [state, reason, (from - day) / 1000, to === undefined ? "on" : (to - day) / 1000]
      .filter((word) => word !== undefined)
      .join(" "),
  );

describe("bars", () => {
  test("show loss, grace, return and end with its reason", () => {
    const [bar] = barsOf([
      entry(1, "session.opened", { over: "websocket" }),
      entry(5, "session.lost", { reason: "lost" }),
      entry(8, "session.resumed", { length: 3000 }),
      entry(20, "session.lost", { reason: "silent" }),
      entry(30, "session.ended", { reason: "silent", length: 29_000 }),
    ]);
    expect(spans(bar?.parts ?? [])).toEqual([
      "live 1 5",
      "grace lost 5 8",
      "live 8 20",
      "grace silent 20 30",
    ]);
    expect(bar).toMatchObject({ from: ms(1), to: ms(30), ended: { reason: "silent" } });
  });

  test("infer what came before the first entry", () => {
    expect(barsOf([entry(30, "session.ended", { length: 25_000, reason: "bye" })])[0]).toMatchObject({
      from: ms(5),
      to: ms(30),
    });
    const [resumed] = barsOf([entry(10, "session.resumed", { length: 4000 })]);
    expect(spans(resumed?.parts ?? [])).toEqual(["live -Infinity 6", "grace 6 10", "live 10 on"]);
    const [active] = barsOf([entry(10, "session.active")]);
    expect(spans(active?.idle ?? [])).toEqual(["-Infinity 10"]);
  });

  test("begin when the sessions that there are say so, also those of which nothing was entered", () => {
    const [known] = barsOf([entry(10, "session.idle")], [now]);
    expect(spans(known?.parts ?? [])).toEqual(["live 0 on"]);
    expect(spans(known?.idle ?? [])).toEqual(["10 on"]);
    const [waiting] = barsOf([], [{ ...now, state: "grace", reason: "lost" }]);
    expect(spans(waiting?.parts ?? [])).toEqual(["live 0 50", "grace lost 50 on"]);
  });

  test("idleness ends with the session", () => {
    const [bar] = barsOf([
      entry(1, "session.opened"),
      entry(3, "session.idle"),
      entry(9, "session.ended", { length: 8000 }),
    ]);
    expect(spans(bar?.idle ?? [])).toEqual(["3 9"]);
  });

  test("share a track unless they overlap", () => {
    const bars = barsOf([
      entry(1, "session.opened"),
      entry(2, "session.opened", { session: "s-2" }),
      entry(5, "session.ended", { length: 4000 }),
      entry(6, "session.opened", { session: "s-3" }),
    ]);
    expect(tracksOf(bars).map((track) => track.map((b) => b.session))).toEqual([["s-1", "s-3"], ["s-2"]]);
  });
});

describe("stays", () => {
  const room = "basin.fen-end";
  test("are what others saw", () => {
    const stays = staysOf(
      [
        entry(4, "member.left", { room, length: 3000, reason: "bye" }),
        entry(6, "member.joined", { room }),
        entry(7, "member.joined", { room: "desk.night" }),
        entry(9, "member.left", { room, length: 3000, reason: "lost" }),
      ],
      [
        { user: "e-01", room: "desk.night", since: ms(7) },
        { user: "w-02", room, since: ms(-50) },
      ],
    );
    expect(stays.map((s) => `${s.user} ${s.room} ${s.left?.reason} ${spans([s])}`)).toEqual([
      `e-01 ${room} bye 1 4`,
      `e-01 ${room} lost 6 9`,
      "e-01 desk.night undefined 7 on",
      `w-02 ${room} undefined -50 on`,
    ]);
  });
});

test("entries that come twice are there once, in order", () => {
  const [a, b] = [entry(1, "session.idle"), entry(2, "session.active")];
  expect(merge([b], [a, b])).toEqual([a, b]);
});

test("gaps are what no stay covers of a window", () => {
  const window = { from: ms(0), to: ms(60) };
  const stays = [
    { from: ms(40), to: ms(50) },
    { from: ms(-10), to: ms(10) },
    { from: ms(5), to: ms(20) },
  ];
  expect(spans(gapsOf(stays, window))).toEqual(["20 40", "50 60"]);
  expect(spans(gapsOf([{ from: Number.NEGATIVE_INFINITY }], window))).toEqual([]);
  expect(spans(gapsOf([], window))).toEqual(["0 60"]);
});

test("a short id is the part that differs", () => {
  expect(short("session-2c6sxq7m")).toBe("2c6sxq");
});
