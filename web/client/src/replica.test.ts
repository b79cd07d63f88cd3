import { describe, expect, test } from "vitest";
import { apply, Gap, type Room } from "./replica";
import type { ChangesFrame, Member, SnapshotFrame } from "./wire";

const member = (user: string, sessions = 1): Member => ({
  user,
  status: "online",
  since: "2026-11-23T18:00:00.000Z",
  sessions,
});

const zero = { people: 0, sessions: 0 };
const counted = (people: number, sessions = people) => ({
  people,
  sessions,
  online: { people, sessions },
  away: zero,
  busy: zero,
});

const snapshot = (rev: string, ...members: Member[]): SnapshotFrame => ({
  type: "snapshot",
  room: "desk.night",
  rev,
  count: counted(members.length),
  members,
});

const changes = (prev: string, rev: string, rest: Partial<ChangesFrame>): ChangesFrame => ({
  type: "changes",
  room: "desk.night",
  at: "2026-11-23T18:00:01.000Z",
  prev,
  rev,
  count: counted(0),
  ...rest,
});

describe("a replica", () => {
  const [first] = apply(undefined, snapshot("r.1", member("ilse"), member("tobin")));

  test("applies what members are doing, which comes without the rest of them", () => {
    const [does, change] = apply(
      first,
      changes("r.1", "r.2", { doing: [{ user: "ilse", doing: { page: 3 } }] }),
    );
    expect(does.members?.get("ilse")).toEqual({ ...member("ilse"), doing: { page: 3 } });
    expect(change.doing.map((m) => m.user)).toEqual(["ilse"]);
    const [nothing] = apply(does, changes("r.2", "r.3", { doing: [{ user: "ilse", doing: null }] }));
    expect(nothing.members?.get("ilse")).toEqual(member("ilse"));
  });

  test("applies numbered changes and tells who joined and left, with the member they were", () => {
    const left = {
      user: "tobin",
      status: "offline",
      reason: "lost",
      last_seen: "2026-11-23T18:00:00.000Z",
    } as const;
    const [room, change] = apply(
      first,
      changes("r.1", "r.2", { joined: [member("hanne")], changed: [member("ilse", 2)], left: [left] }),
    );
    expect([...(room.members?.keys() ?? [])]).toEqual(["ilse", "hanne"]);
    expect(room.members?.get("ilse")?.sessions).toBe(2);
    expect(change.left).toEqual([{ ...left, was: member("tobin") }]);
    expect(first.members?.has("tobin"), "the old view is untouched").toBe(true);
  });

  test("refuses changes that do not follow what it has", () => {
    expect(() => apply(first, changes("r.2", "r.3", {}))).toThrow(Gap);
    expect(() => apply(undefined, changes("r.1", "r.2", {}))).toThrow(Gap);
  });

  test("tells how a new snapshot differs, and nothing of the first one", () => {
    const [, first2] = apply(undefined, snapshot("r.1", member("ilse")));
    expect(first2.joined).toEqual([]);
    const [, change] = apply(first, snapshot("q.7", member("ilse", 3), member("hanne")));
    expect(change.joined).toEqual([member("hanne")]);
    expect(change.changed).toEqual([member("ilse", 3)]);
    expect(change.left).toEqual([{ user: "tobin", was: member("tobin") }]);
  });

  test("keeps only the number of a room that is followed at count", () => {
    const [room] = apply(undefined, {
      type: "count",
      room: "desk.night",
      rev: "r.1",
      ...counted(2, 3),
    });
    expect(room satisfies Room).toEqual({
      room: "desk.night",
      typing: [],
      rev: "r.1",
      count: counted(2, 3),
    });
  });
});
