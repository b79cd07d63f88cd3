import type { Count, Departed, Doing, Member, Problem, RoomFrame } from "./wire";

/** A room as the client knows it. It is immutable. `members` is missing for a room followed at count. */
export interface Room {
  readonly room: string;
  readonly rev: string;
  readonly count: Count;
  readonly members?: ReadonlyMap<string, Member>;
  /** Who is typing, in the order in which they began. */
  readonly typing: readonly string[];
  /** `members` is only the first page of a large room, as it was when it was sent. */
  readonly partial?: boolean;
  /** Why the room is not delivered, or no longer. */
  readonly problem?: Problem;
}

/** A room that is not delivered. */
export function refusedRoom(room: string, problem: Problem): Room {
  return { room, rev: "", count: nobody, typing: [], problem };
}

/** A room that a pattern matches, before anybody was known to be there. */
export function begun(room: string): Room {
  return { room, rev: "", count: nobody, members: new Map(), typing: [] };
}

/**
 * What a frame changed in a room; for a snapshot, the difference from what was known. The first snapshot of a room has
 * no difference, but that of a room that is followed by a pattern has its members as joined.
 */
export interface Change {
  readonly room: string;
  /** The time of the change; missing for a snapshot. */
  readonly at?: string;
  readonly joined: readonly Member[];
  readonly changed: readonly Member[];
  /** Members who only changed what they are doing. */
  readonly doing: readonly Member[];
  readonly left: readonly (Partial<Departed> & { readonly user: string; readonly was?: Member })[];
}

/** The members of a room, by user id. Without leaves somebody out, usually oneself. */
export function membersOf(room: Room | undefined, without?: string): readonly Member[] {
  return [...(room?.members?.values() ?? [])].filter((m) => m.user !== without);
}

/** Thrown when changes do not follow the revision that the client has. */
export class Gap extends Error {}

const tally = { people: 0, sessions: 0 };
const nobody: Count = { ...tally, online: tally, away: tally, busy: tally };
const none: Omit<Change, "room"> = { joined: [], changed: [], doing: [], left: [] };

/** Applies a frame to a room, and returns what it changed. */
export function apply(old: Room | undefined, frame: RoomFrame): [Room, Change] {
  const { room } = frame;
  const rev = "rev" in frame ? frame.rev : "";
  switch (frame.type) {
    case "count":
      // Of a large room the first page of members is known besides, at a revision of its own.
      return [
        old?.members ? { ...old, count: countOf(frame) } : { room, rev, count: countOf(frame), typing: [] },
        { room, ...none },
      ];
    case "typing":
      return [
        { ...(old ?? { room, rev: "", count: nobody }), typing: frame.users },
        { room, ...none },
      ];
    case "snapshot": {
      const members = new Map(frame.members.map((m) => [m.user, m]));
      return [
        { room, rev, count: frame.count, members, typing: [], ...(frame.next ? { partial: true } : {}) },
        { room, ...difference(old?.members, members) },
      ];
    }
    case "changes": {
      if (!old?.members || old.rev !== frame.prev) {
        throw new Gap(`the changes of ${room} follow ${frame.prev}, not ${old?.rev}`);
      }
      const members = new Map(old.members);
      const { joined = [], changed = [], left = [] } = frame;
      for (const m of [...joined, ...changed]) members.set(m.user, m);
      const doing = (frame.doing ?? []).flatMap((d) => does(members, d.user, d.doing));
      const gone = left.map((d) => {
        const was = members.get(d.user);
        members.delete(d.user);
        return was ? { ...d, was } : d;
      });
      return [
        { ...old, rev, count: frame.count, members },
        { room, at: frame.at, joined, changed, doing, left: gone },
      ];
    }
  }
}

/** Changes what a member is doing, and returns the member. */
function does(members: Map<string, Member>, user: string, doing: Doing | null): Member[] {
  const was = members.get(user);
  if (!was) return [];
  const { doing: _, ...rest } = was;
  const is = doing ? { ...rest, doing } : rest;
  members.set(user, is);
  return [is];
}

function countOf({ people, sessions, online, away, busy }: Count): Count {
  return { people, sessions, online, away, busy };
}

function difference(
  old: ReadonlyMap<string, Member> | undefined,
  now: ReadonlyMap<string, Member>,
): Omit<Change, "room"> {
  if (!old) return none;
  const same = (a: Member, b: Member) => JSON.stringify(a) === JSON.stringify(b);
  return {
    doing: [],
    joined: [...now.values()].filter((m) => !old.has(m.user)),
    changed: [...now.values()].filter((m) => {
      const was = old.get(m.user);
      return was !== undefined && !same(was, m);
    }),
    left: [...old.values()].filter((m) => !now.has(m.user)).map((was) => ({ user: was.user, was })),
  };
}
