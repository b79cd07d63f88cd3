import { Link as ServiceLink } from "@client/link";
import type { Room } from "@client/replica";
import { useEffect, useMemo, useRef, useState } from "react";
import type { Shape } from "../api";
import { server, useNow } from "../live";
import { Frame, RoomTitle, Sheet } from "../parts/frame";
import { Card, type Deeds, nameOf } from "../practice/card";
import { type Kind, PlayedPage, type Player } from "../practice/played-page";
import { type Entry, toldBy } from "../practice/story";
import { clock } from "../words";

type Offer = Shape<"Practice">;

const roomName = "tovik.practice-room";

async function fetchOffer(): Promise<Offer> {
  const room = sessionStorage.getItem(roomName) ?? undefined;
  const response = await fetch(`${server}/v1/practice`, { method: "POST", body: JSON.stringify({ room }) });
  const answer = await response.json();
  if (!response.ok) throw new Error(answer.detail);
  sessionStorage.setItem(roomName, answer.room);
  return answer;
}

/** A practice room: pages of several people side by side, each with what it sees of the others. */
export function Practice() {
  const [offer, setOffer] = useState<Offer>();
  const [problem, setProblem] = useState<string>();
  useEffect(() => {
    fetchOffer().then(setOffer, (error: Error) => setProblem(error.message));
  }, []);
  if (offer) return <Playing offer={offer} />;
  return (
    <Frame title="Practice">
      <Sheet title="Practice">
        <p className="p-4" role="status">
          {problem ? (
            <>
              {problem}. It is on in <code className="font-mono text-sm">tovik demo</code> and with{" "}
              <code className="font-mono text-sm">tovik serve --practice</code>.
            </>
          ) : (
            "Opening a room…"
          )}
        </p>
      </Sheet>
    </Frame>
  );
}

function Playing({ offer }: { offer: Offer }) {
  const { pages, entries, deeds, add, room } = usePlay(offer);
  const now = useNow(100);
  return (
    <Frame title="Practice" wide>
      <div className="flex flex-wrap items-end justify-between gap-x-8 pb-3">
        <div>
          <RoomTitle name={offer.room} count={room?.count} />
          <p className="-mt-2 max-w-3xl text-muted text-sm">
            Each card is a real session of this service. Do something with one, and look at the others: at its
            foot each says what the service knows, and how long it still waits.
          </p>
        </div>
        <Add people={offer.people} add={add} />
      </div>
      <div className="grid gap-4 lg:grid-cols-[minmax(0,1fr)_19rem] lg:items-start">
        <div className="grid grid-cols-[repeat(auto-fill,minmax(17.5rem,1fr))] gap-4">
          {pages.map((played) => (
            <Card key={nameOf(played)} played={played} now={now} deeds={deeds} />
          ))}
        </div>
        <Story entries={entries} />
      </div>
    </Frame>
  );
}

/** The pages of a practice room, the actions, and what an observer is told. */
function usePlay(offer: Offer) {
  const [pages, setPages] = useState<readonly PlayedPage[]>([]);
  const [entries, setEntries] = useState<readonly Entry[]>([]);
  const [room, setRoom] = useState<Room>();
  const all = useRef<readonly PlayedPage[]>([]);
  const count = useRef(0);

  const { add, deeds, note } = useMemo(() => {
    const note = (kind: Entry["kind"], text: string) => {
      const entry = { id: ++count.current, at: Date.now(), kind, text };
      setEntries((entries) => [entry, ...entries].slice(0, 80));
    };
    const show = (pages: readonly PlayedPage[]) => {
      all.current = pages;
      setPages(pages);
    };
    const add = (player: Player, kind: Kind, kept?: ReadonlyMap<string, string>) => {
      const same = all.current.filter((d) => d.player === player && d.kind === kind);
      const number = Math.max(0, ...same.map((d) => d.number)) + 1;
      const browserOf = (played: PlayedPage) =>
        all.current.filter(
          (p) => p !== played && p.player === played.player && p.kind === "tab" && kind === "tab",
        );
      const played = new PlayedPage(player, kind, number, offer.room, offer, server, browserOf, kept);
      played.returned = () => note("silent", `${nameOf(played)} is back in time`);
      show([...all.current, played]);
      played.open();
    };
    const deeds: Deeds = {
      did: (played, what) => note("did", `${nameOf(played)}: ${what}`),
      duplicate: (played) => add(played.player, played.kind, played.kept),
      remove: (played) => {
        played.dispose();
        show(all.current.filter((p) => p !== played));
      },
    };
    return { add, deeds, note };
  }, [offer]);

  useEffect(() => {
    const [first, second] = offer.people;
    if (!first || !second) return;
    const watch = [{ room: offer.room, detail: "members" }] as const;
    const onlooker = new ServiceLink({ server, token: first.token, watchOnly: true, watch });
    const stop = onlooker.onChange((change) => {
      for (const text of toldBy(change)) note("told", text);
    });
    onlooker.subscribe(() => setRoom(onlooker.snapshot.rooms.get(offer.room)));
    add(first, "tab");
    add(first, "phone");
    add(second, "tab");
    return () => {
      stop();
      onlooker.close();
      for (const played of all.current) played.dispose();
      all.current = [];
      setPages([]);
    };
  }, [offer, add, note]);

  return { pages, entries, deeds, add, room };
}

function Add({ people, add }: { people: readonly Player[]; add: (player: Player, kind: Kind) => void }) {
  const [chosen, setChosen] = useState(2);
  const player = people[chosen];
  if (!player) return null;
  const button = "rounded-md border border-line bg-sheet px-3 py-1.5 text-sm hover:bg-wash";
  return (
    <div className="flex items-center gap-2 pb-1">
      <select
        aria-label="Who"
        value={chosen}
        onChange={(e) => setChosen(Number(e.target.value))}
        className="rounded-md border border-line bg-sheet px-2 py-1.5 text-sm"
      >
        {people.map((p, i) => (
          <option key={p.user} value={i}>
            {p.name}
          </option>
        ))}
      </select>
      <button type="button" className={button} onClick={() => add(player, "tab")}>
        Open a tab
      </button>
      <button type="button" className={button} onClick={() => add(player, "phone")}>
        Open a phone
      </button>
    </div>
  );
}

/** The actions, and what others were told, newest first. */
function Story({ entries }: { entries: readonly Entry[] }) {
  return (
    <Sheet title="What was done, and what others were told">
      <ol className="max-h-[70vh] divide-y divide-line overflow-y-auto text-sm" data-story>
        {entries.map((entry) => (
          <li key={entry.id} data-kind={entry.kind} className="grid grid-cols-[4.2rem_1fr] px-3 py-1.5">
            <time className="font-mono text-muted text-xs leading-5">{clock(entry.at)}</time>
            {entry.kind === "did" ? (
              <span className="text-muted">{entry.text}</span>
            ) : (
              <span
                className={`border-l-2 pl-2 ${entry.kind === "told" ? "border-water" : "border-line border-dashed"}`}
              >
                <span className={`block text-xs ${entry.kind === "told" ? "text-water" : "text-muted"}`}>
                  {entry.kind === "told" ? "others were told" : "nobody was told anything"}
                </span>
                {entry.text}
              </span>
            )}
          </li>
        ))}
      </ol>
    </Sheet>
  );
}
