import { describe, expect, test } from "vitest";
import type { Room } from "./replica";
import { Composer, type Reporter, typingSentence } from "./typing";

/** A person at a keyboard, with a clock that the test moves. */
class Desk {
  told: string[] = [];
  now = 0;
  timers: { at: number; run: () => void }[] = [];
  readonly link: Reporter = {
    snapshot: { opened: { timings: { typing_expires: 6000 } } },
    typing: async (_, on) => void this.told.push(`${this.now} ${on ? "types" : "stops"}`),
    sent: async () => void this.told.push(`${this.now} sent`),
  };
  readonly composer = new Composer(this.link, "desk.night", (ms, run) => {
    const timer = { at: this.now + ms, run };
    this.timers.push(timer);
    return () => {
      this.timers = this.timers.filter((t) => t !== timer);
    };
  });

  pass(ms: number): void {
    for (const end = this.now + ms; this.now < end; ) {
      const next = Math.min(end, ...this.timers.map((t) => t.at));
      this.now = next;
      const due = this.timers.filter((t) => t.at <= next);
      this.timers = this.timers.filter((t) => t.at > next);
      for (const timer of due) timer.run();
    }
  }
}

describe("a composer", () => {
  test("renews a minute of typing in time, and says no more than that", () => {
    const desk = new Desk();
    for (let i = 0; i < 60; i++) {
      desk.composer.changed("x".repeat(i + 1));
      desk.pass(1000);
    }
    expect(desk.told).toHaveLength(21);
    expect(desk.told.slice(0, 3)).toEqual(["0 types", "3000 types", "6000 types"]);
  });

  test("ends so long after the last key as is promised, however many came before", () => {
    const desk = new Desk();
    for (const text of ["T", "Th", "The"]) {
      desk.composer.changed(text);
      desk.pass(200);
    }
    desk.pass(60_000);
    expect(desk.told).toEqual(["0 types", "3000 types", "6400 stops"]);
  });

  test("leaves an abandoned draft to expire, and starts again when it changes", () => {
    const desk = new Desk();
    desk.composer.changed("The water");
    desk.pass(60_000);
    expect(desk.told).toEqual(["0 types"]);
    desk.composer.changed("The water is");
    expect(desk.told).toEqual(["0 types", "60000 types"]);
  });

  test("stops when the field is emptied, once", () => {
    const desk = new Desk();
    desk.composer.changed("   ");
    desk.composer.changed("T");
    desk.composer.changed("");
    desk.composer.changed(" ");
    desk.pass(10_000);
    expect(desk.told).toEqual(["0 types", "0 stops"]);
    expect(desk.timers).toHaveLength(0);
  });

  test("tells what was sent, and not that it stopped", () => {
    const desk = new Desk();
    desk.composer.changed("The water is rising");
    desk.composer.sent();
    desk.composer.stopped();
    expect(desk.told).toEqual(["0 types", "0 sent"]);
    desk.composer.changed("By");
    expect(desk.told).toHaveLength(3);
  });
});

describe("the typing sentence", () => {
  const tally = { people: 0, sessions: 0 };
  const room = (...users: string[]): Room => ({
    room: "desk.night",
    rev: "r.1",
    count: { ...tally, online: tally, away: tally, busy: tally },
    members: new Map([["e-01", { user: "e-01", name: "Ilse", status: "online", since: "", sessions: 1 }]]),
    typing: users,
  });

  test("is one for each number of people", () => {
    expect(typingSentence(undefined)).toBe("");
    expect(typingSentence(room("e-01"))).toBe("Ilse is typing");
    expect(typingSentence(room("e-01", "w-4"))).toBe("Ilse and w-4 are typing");
    expect(typingSentence(room("e-01", "w-4", "w-5"))).toBe("Ilse, w-4 and w-5 are typing");
    expect(typingSentence(room("e-01", "w-4", "w-5", "w-6"))).toBe("Ilse, w-4 and 2 others are typing");
    expect(typingSentence(room("e-01", "w-4"), "e-01")).toBe("w-4 is typing");
  });
});
