// The frames of a link by the names that this library exports. Their shapes are made from wire/asyncapi.yaml, as
// docs/protocol.md describes them.

import type { components } from "./frames";

type Frames = components["schemas"];

/** The count of a room, also by the status of the people. A person with three tabs is one person and three sessions. */
export type Count = Frames["count"];

/** People and their sessions. */
export type Tally = Frames["tally"];

/** The status of a person. */
export type Status = PersonFrame["status"];

/** A person in a room: since when (RFC 3339, UTC), with how many sessions, and their set status if they have one. */
export type Member = Frames["member"];

/** A person who left a room. */
export type Departed = NonNullable<ChangesFrame["left"]>[number];

/** Why somebody left a room. */
export type Reason = Departed["reason"];

/** How much of a room is followed. */
export type Detail = Frames["detail"];

/** A room or pattern to follow without being in it. */
export interface Watch extends Following {
  readonly room: string;
  readonly detail: Detail;
}

/** What of a room is followed. */
export interface Following {
  /** What the room is followed without: `["doing"]` leaves out what members are doing. */
  readonly without?: readonly Without[];
  /** The first members only, by id, whole after each change; the count is of all. */
  readonly limit?: number;
}

/** What a room can be followed without: what its members are doing. */
export type Without = Frames["without"][number];

/** A kind of device. */
export type Device = Frames["device"];

/** What a member is doing in a room: an object of the application's own. */
export type Doing = Frames["object"];

/** Somebody who asks to be let into a room. */
export type Ask = Frames["openAsk"];

/** The open asks of a room. */
export type AsksFrame = Frames["asks"];

/** How an own ask ended. */
export type AskFrame = Frames["askOver"];

/** The same without its type. */
export type AskEnd = Omit<AskFrame, "type">;

/** An invitation that waits for an answer. */
export type Invitation = Frames["openInvitation"];

/** The open invitations of a person. */
export type Invitations = Frames["openInvitations"];

/** Their frame. */
export type InvitationsFrame = Frames["invitations"];

/** An invitation that is over, and how it ended. */
export type InvitationEnd = Frames["invitationOver"];

/** The timings of the service, in milliseconds. */
export type Timings = Frames["timings"];

/** What a person has set for all their sessions: a status, or none to follow the sessions, and whether they hide. */
export type Own = Omit<Frames["own"], "type">;

/** A problem, in words. One that the library finds itself has no page that explains it. */
export type Problem = Omit<Frames["drop"], DropKey | "help"> & { readonly help?: string };

/** A room, a pattern or a person that is not delivered, or no longer, and why. With `watch` it is not watched. */
export type Drop = Problem & Pick<Frames["drop"], DropKey>;

type DropKey = "room" | "user" | "watch";

/** The answer to a request. Which fields it has depends on the request. */
export type Answer = Omit<Frames["answer"], "re"> & { readonly re?: number };

/** The answer to hello. A link with an operator's key has no session. */
export type Opened = Omit<
  Answer,
  | "type"
  | "re"
  | keyof Page
  | "links"
  | "stale"
  | "ask"
  | "joined"
  | "invitation"
  | "admitted"
  | "not_admitted"
> &
  Required<Pick<Answer, "resumed" | "timings">>;

/** A page of the members of a large room, all of one revision. */
export type Page = Omit<SnapshotFrame, "type">;

/** The receiver of a cue: a room (the others; with `everyone` also the sender), a person, or a session. */
export type Addressee =
  | { readonly room: string; readonly everyone?: boolean }
  | { readonly user: string }
  | { readonly session: string };

/** The members of a room, or the first page of a large one. */
export type SnapshotFrame = Frames["snapshot"];

/** The changes from one revision of a room to the next. */
export type ChangesFrame = Frames["changes"];

/** The newest count of a room. */
export type CountFrame = Frames["countFrame"];

/** The people who are typing in a room. */
export type TypingFrame = Frames["typing"];

/** The status of a watched person. */
export type PersonFrame = Frames["person"];

/** A cue. Without `from` it is from the back end. */
export type CueFrame = Frames["cue"];

/** A frame about a room. */
export type RoomFrame = SnapshotFrame | ChangesFrame | CountFrame | TypingFrame;

/** Every frame that the service sends. An event stream also has `still`, as a sign of life. */
export type Frame =
  | RoomFrame
  | Frames["beat"]
  | { readonly type: "still" }
  | Frames["own"]
  | Frames["dropped"]
  | AsksFrame
  | AskFrame
  | InvitationsFrame
  | InvitationEnd
  | PersonFrame
  | CueFrame
  | Frames["expiring"]
  | Frames["moving"]
  | Answer
  | (Omit<Frames["error"], "re"> & { readonly re?: number });
