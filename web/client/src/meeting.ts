import type {
  Ask,
  AskEnd,
  AskFrame,
  AsksFrame,
  InvitationEnd,
  Invitations,
  InvitationsFrame,
  Opened,
} from "./wire";

/** What a link knows of people who ask to be let in, and of invitations. It is immutable. */
export interface Meeting {
  /** The open asks of rooms in which the person may admit, by room; the oldest first. */
  readonly asks: ReadonlyMap<string, readonly Ask[]>;
  /** The own asks by room. One that is over has its outcome, until the room is joined again. */
  readonly asked: ReadonlyMap<string, OwnAsk>;
  /** The open invitations that the person has received and sent, in any tab. */
  readonly invitations: Invitations;
  /** The invitation that ended last, with its outcome. */
  readonly ended?: InvitationEnd;
}

/** An ask of this session: open, or over with an outcome. */
export type OwnAsk = Pick<Ask, "ask" | "room"> &
  Partial<Pick<Ask, "since" | "until">> &
  Partial<Pick<AskEnd, "outcome" | "by" | "again">>;

/** What a link knows before it is opened. */
export const nothing: Meeting = {
  asks: new Map(),
  asked: new Map(),
  invitations: { received: [], sent: [] },
};

/** Returns what is known after the answer to a hello. Asks that are over stay, so that their outcome can be read. */
export function opening(old: Meeting, { asked = [], invitations = nothing.invitations }: Opened): Meeting {
  const all = new Map([...old.asked].filter(([, ask]) => ask.outcome));
  for (const ask of asked) all.set(ask.room, ask);
  return { ...old, asks: new Map(), asked: all, invitations };
}

/** Returns what is known after a join has asked. */
export function asking(old: Meeting, ask: Ask): Meeting {
  return { ...old, asked: new Map(old.asked).set(ask.room, ask) };
}

/** Returns what is known once a room is joined, left, or no longer delivered. */
export function without(old: Meeting, room: string): Meeting {
  if (!old.asks.has(room) && !old.asked.has(room)) return old;
  const asks = new Map(old.asks);
  const asked = new Map(old.asked);
  asks.delete(room);
  asked.delete(room);
  return { ...old, asks, asked };
}

/** Returns what is known after a frame. */
export function meet(old: Meeting, frame: AsksFrame | AskFrame | InvitationsFrame | InvitationEnd): Meeting {
  switch (frame.type) {
    case "asks":
      return { ...old, asks: new Map(old.asks).set(frame.room, frame.asks) };
    case "ask": {
      const { type: _, ...end } = frame;
      return { ...old, asked: new Map(old.asked).set(frame.room, { ...old.asked.get(frame.room), ...end }) };
    }
    case "invitations":
      return { ...old, invitations: { received: frame.received, sent: frame.sent } };
    case "invitation":
      return { ...old, ended: frame };
  }
}

const outcomes: Readonly<Record<string, string>> = {
  admitted: "You were let in.",
  refused: "You were not let in.",
  expired: "Nobody answered.",
  withdrawn: "You no longer ask.",
  gone: "You no longer ask.",
};

/** A sentence about an own ask, in English. */
export function askSentence(ask: OwnAsk | undefined): string {
  if (!ask) return "";
  return ask.outcome ? (outcomes[ask.outcome] ?? "") : "Waiting to be let in…";
}
