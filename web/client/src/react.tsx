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
import type { Link, Snapshot, State } from "./link";
import { membersOf, type Room } from "./replica";
import { Composer, typingSentence } from "./typing";
import type { Count, CueFrame, Drop, Member, Own, PersonFrame, Problem } from "./wire";

const unopened: Snapshot = {
  state: { word: "connecting" },
  rooms: new Map(),
  people: new Map(),
  dropped: [],
};

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

/** Calls back with each cue for this session. */
export function useCue(heard: (cue: CueFrame) => void): void {
  const link = useLink();
  const latest = useRef(heard);
  useEffect(() => {
    latest.current = heard;
  });
  useEffect(() => link?.onCue((cue) => latest.current(cue)), [link]);
}
