// The shapes of the frames of a link, as docs/protocol.md describes them.

/** The count of a room. A person with three tabs is one person and three sessions. */
export interface Count extends Tally {
  /** The same, by the status of the person. */
  readonly online: Tally;
  readonly away: Tally;
  readonly busy: Tally;
}

/** People and their sessions. */
export interface Tally {
  readonly people: number;
  readonly sessions: number;
}

/** The status of a person. */
export type Status = "online" | "away" | "busy" | "offline";

/** A person in a room. */
export interface Member {
  readonly user: string;
  readonly name?: string;
  readonly picture?: string;
  readonly status: Status;
  /** The note of a set status. */
  readonly note?: string;
  /** The end of a set status. */
  readonly until?: string;
  /** RFC 3339, UTC. */
  readonly since: string;
  /** The number of the person's sessions in this room. */
  readonly sessions: number;
}

/** Why somebody left a room. */
export type Reason =
  | "leave"
  | "bye"
  | "closing"
  | "lost"
  | "silent"
  | "expired"
  | "removed"
  | "replaced"
  | "refused";

/** A person who left a room. */
export interface Departed {
  readonly user: string;
  readonly status: Status;
  readonly reason: Reason;
  readonly last_seen: string;
}

export type Detail = "count" | "members";

/** A room or pattern to follow without being in it. */
export interface Watch {
  readonly room: string;
  readonly detail: Detail;
}

/** A page of the members of a large room, all of one revision. */
export interface Page {
  readonly room: string;
  readonly rev: string;
  readonly count: Count;
  readonly members: readonly Member[];
  readonly next?: string;
}

/** The receiver of a cue: a room (the others; with `everyone` also the sender), a person, or a session. */
export type Addressee =
  | { readonly room: string; readonly everyone?: boolean }
  | { readonly user: string }
  | { readonly session: string };

/** The timings of the service, in milliseconds. */
export interface Timings {
  readonly beat_every: number;
  readonly silence: number;
  readonly grace_closing: number;
  readonly grace_lost: number;
  readonly grace_background: number;
  readonly idle_after: number;
  readonly activity_every: number;
  readonly longest_ghost: number;
  readonly typing_expires: number;
}

/** The answer to hello. A link with an operator's key has no session. */
export interface Opened {
  readonly session?: string;
  readonly resume_key?: string;
  readonly link?: number;
  readonly resumed: boolean;
  readonly not_resumed?: "unknown" | "in-use";
  readonly user?: string;
  readonly rooms?: readonly string[];
  /** What the hello requested and is not delivered. */
  readonly dropped?: readonly Drop[];
  /** What follows for each room whose revision the hello had. */
  readonly revs?: Readonly<Record<string, "current" | "changes" | "snapshot" | "new-run">>;
  readonly own?: Own;
  readonly timings: Timings;
}

/** What a person has set for all their sessions: a status, or none to follow the sessions, and whether they hide. */
export interface Own {
  readonly status?: "busy" | "away";
  readonly note?: string;
  readonly until?: string;
  readonly hiding: boolean;
}

/** A problem, in words. */
export interface Problem {
  readonly code: string;
  readonly detail: string;
  readonly field?: string;
  readonly value?: string;
  readonly allowed?: string;
}

/** A room, a pattern or a person that is not delivered, or no longer, and why. */
export interface Drop extends Problem {
  /** The room. The session is not in it; with `watch`, the room or pattern is not watched. */
  readonly room?: string;
  /** A person whose watch was refused or ended. */
  readonly user?: string;
  readonly watch?: boolean;
}

export interface SnapshotFrame {
  readonly type: "snapshot";
  readonly room: string;
  readonly rev: string;
  readonly count: Count;
  readonly members: readonly Member[];
  /** Of a large room: the value of `after` for the next page. */
  readonly next?: string;
}

export interface ChangesFrame {
  readonly type: "changes";
  readonly room: string;
  readonly rev: string;
  readonly prev: string;
  readonly at: string;
  readonly joined?: readonly Member[];
  readonly changed?: readonly Member[];
  readonly left?: readonly Departed[];
  readonly count: Count;
}

export interface CountFrame extends Count {
  readonly type: "count";
  readonly room: string;
  readonly rev: string;
}

export type RoomFrame = SnapshotFrame | ChangesFrame | CountFrame | TypingFrame;

/** The people who are typing in a room. */
export interface TypingFrame {
  readonly type: "typing";
  readonly room: string;
  readonly users: readonly string[];
}

/** The status of a watched person. */
export interface PersonFrame {
  readonly type: "person";
  readonly user: string;
  /** From the directory, as of the beginning of the watch. */
  readonly name?: string;
  readonly picture?: string;
  readonly status: Status;
  readonly note?: string;
  readonly until?: string;
  readonly last_seen?: string;
}

/** A cue. Without `from` it is from the back end. */
export interface CueFrame {
  readonly type: "cue";
  readonly name: string;
  readonly from?: { readonly user: string; readonly session: string };
  readonly room?: string;
  readonly at: string;
  readonly data?: unknown;
}

/** Every frame that the service sends. */
export type Frame =
  | RoomFrame
  | { readonly type: "beat" }
  | { readonly type: "still" }
  | ({ readonly type: "own" } & Own)
  | ({ readonly type: "dropped" } & Drop)
  | PersonFrame
  | CueFrame
  | { readonly type: "expiring"; readonly expires: string }
  | { readonly type: "moving"; readonly after: number }
  | ({ readonly type: "answer"; readonly re?: number; readonly links?: number } & Partial<Opened> &
      Partial<Omit<Page, "rooms">>)
  | ({ readonly type: "error"; readonly re?: number } & Problem);
