import {
  createContext,
  type ReactNode,
  useContext,
  useEffect,
  useMemo,
  useRef,
  useState,
  useSyncExternalStore,
} from "react";
import { type Link, type Snapshot, type State, unopened } from "./link";
import type { OwnAsk } from "./meeting";
import { membersOf, type Room } from "./replica";
import { Composer, typingSentence } from "./typing";
import type {
  Ask,
  Count,
  CueFrame,
  Doing,
  Drop,
  InvitationEnd,
  Invitations,
  Member,
  Own,
  PersonFrame,
  Problem,
} from "./wire";

const LinkContext = createContext<Link | undefined>(undefined);

/**
 * Opens a link while it is mounted, and gives it to the hooks below: `<TovikLink open={() => openTab({ server, token,
 * rooms })}>`. Only the first `open` counts; for another person, change the `key`.
 */
export function TovikLink({
  open,
  children,
}: {
  open: () => { link: Link; close: () => void };
  children: ReactNode;
}): ReactNode {
  const [link, setLink] = useState<Link>();
  const first = useRef(open);
  useEffect(() => {
    const opened = first.current();
    setLink(opened.link);
    return () => {
      setLink(undefined);
      opened.close();
    };
  }, []);
  return <LinkContext value={link}>{children}</LinkContext>;
}

/** The link itself, for requests; undefined until it is opened. */
export function useLink(): Link | undefined {
  return useContext(LinkContext);
}

/** A part of the snapshot. Pick must return the same object until it has changed. */
function usePart<T>(pick: (snapshot: Snapshot) => T): T {
  const link = useLink();
  const read = () => pick(link?.snapshot ?? unopened);
  return useSyncExternalStore(
    (listener) => link?.subscribe(listener) ?? (() => {}),
    read,
    () => pick(unopened),
  );
}

/** The state of the link, with its kind. */
export function useLinkState(): State {
  return usePart((snapshot) => snapshot.state);
}

/** The own person and session, once the service has answered. */
export function useOwnSession(): { readonly user?: string; readonly session?: string } {
  const opened = usePart((snapshot) => snapshot.opened);
  return useMemo(
    () => ({
      ...(opened?.user ? { user: opened.user } : {}),
      ...(opened?.session ? { session: opened.session } : {}),
    }),
    [opened],
  );
}

/** What the person has set for all their sessions, in any tab: a status, or that they hide. */
export function useOwnStatus(): Own | undefined {
  return usePart((snapshot) => snapshot.own);
}

/**
 * Why a room is not delivered: it is full, not granted, or the person was removed. Undefined while it is delivered.
 */
export function useProblem(room: string): Problem | undefined {
  return usePart((snapshot) => snapshot.rooms.get(room)?.problem);
}

/** Everything that was requested and is not delivered, each with the reason. */
export function useDropped(): readonly Drop[] {
  return usePart((snapshot) => snapshot.dropped);
}

/** A followed room; undefined until it is known. A room that is not delivered has a `problem`. */
export function useFollowed(room: string): Room | undefined {
  return usePart((snapshot) => snapshot.rooms.get(room));
}

/** Is in a room and follows it while the component is mounted. */
export function useInRoom(room: string): Room | undefined {
  const link = useLink();
  useEffect(() => {
    if (!link) return;
    link.join(room).catch(() => {}); // said again by the next hello; refused, the room has the problem
    return () => {
      link.leave(room).catch(() => {});
    };
  }, [link, room]);
  return useFollowed(room);
}

/** The members of a room, by user id. Without leaves somebody out, usually oneself. */
export function useRoomMembers(name: string, without?: string): readonly Member[] {
  const room = useFollowed(name);
  return useMemo(() => membersOf(room, without), [room, without]);
}

/** The count of a room. */
export function useCount(room: string): Count | undefined {
  return useFollowed(room)?.count;
}

/** A person's status, followed while the component is mounted. */
export function usePerson(user: string): PersonFrame | undefined {
  const link = useLink();
  useEffect(() => {
    if (!link) return;
    link.watchPeople([user]).catch(() => {});
    return () => {
      link.unwatchPeople([user]).catch(() => {});
    };
  }, [link, user]);
  return usePart((snapshot) => snapshot.people.get(user));
}

/** Typing in a room: a sentence about the others, and what to call when the own text changes or is sent. */
export function useRoomTyping(room: string): {
  readonly sentence: string;
  readonly changed: (text: string) => void;
  readonly sent: () => void;
} {
  const link = useLink();
  const sentence = typingSentence(useFollowed(room), useOwnSession().user);
  const composer = useRef<Composer>(undefined);
  useEffect(() => {
    if (!link) return;
    const own = new Composer(link, room);
    composer.current = own;
    return () => {
      own.stopped();
      composer.current = undefined;
    };
  }, [link, room]);
  return useMemo(
    () => ({
      sentence,
      changed: (text: string) => composer.current?.changed(text),
      sent: () => composer.current?.sent(),
    }),
    [sentence],
  );
}

/** What to call when what the person is doing in a room changes; null for nothing. */
export function useDoing(room: string): (data: Doing | null) => void {
  const link = useLink();
  return useMemo(() => (data: Doing | null) => void link?.doing(room, data), [link, room]);
}

const nobodyAsks: readonly Ask[] = [];

/** The open asks of a room, if the person may admit there; and what to answer with. */
export function useAsks(room: string): {
  readonly asks: readonly Ask[];
  readonly admit: (ask: string) => void;
  readonly admitAll: () => void;
  readonly refuse: (ask: string) => void;
} {
  const link = useLink();
  const asks = usePart((snapshot) => snapshot.meeting.asks.get(room) ?? nobodyAsks);
  return useMemo(
    () => ({
      asks,
      admit: (ask: string) => void link?.admit(ask),
      admitAll: () => void link?.admitAll(room),
      refuse: (ask: string) => void link?.refuse(ask),
    }),
    [link, room, asks],
  );
}

/** The own ask about a room: open, or over with its outcome; undefined if the session does not ask. */
export function useOwnAsk(room: string): OwnAsk | undefined {
  return usePart((snapshot) => snapshot.meeting.asked.get(room));
}

/** The person's open invitations, and what to answer with. `ended` is the one that ended last. */
export function useInvitations(): Invitations & {
  readonly ended: InvitationEnd | undefined;
  readonly invite: (user: string, room: string) => Promise<string>;
  readonly accept: (invitation: string) => Promise<string>;
  readonly decline: (invitation: string) => void;
  readonly withdraw: (invitation: string) => void;
} {
  const link = useLink();
  const { invitations, ended } = usePart((snapshot) => snapshot.meeting);
  return useMemo(
    () => ({
      ...invitations,
      ended,
      invite: (user: string, room: string) => link?.invite(user, room) ?? notOpen(),
      accept: (invitation: string) => link?.accept(invitation) ?? notOpen(),
      decline: (invitation: string) => void link?.decline(invitation),
      withdraw: (invitation: string) => void link?.withdraw(invitation),
    }),
    [link, invitations, ended],
  );
}

function notOpen(): Promise<string> {
  return Promise.reject(new Error("the link is not open yet"));
}

/** Calls back with each cue for this session. */
export function useCue(heard: (cue: CueFrame) => void): void {
  const link = useLink();
  const latest = useRef(heard);
  useEffect(() => {
    latest.current = heard;
  });
  useEffect(() => link?.onCue((cue) => latest.current(cue)), [link]);
}
