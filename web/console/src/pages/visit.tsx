import type { Link, Snapshot } from "@client/link";
import { openTab } from "@client/tab";
import { useState } from "react";
import { server, useFeed, useLink, useNow } from "../live";
import { takeFragment } from "../operator";
import { Feed } from "../parts/feed";
import { Frame, Refused, RoomTitle, Sheet } from "../parts/frame";
import { Members } from "../parts/members";
import { seconds } from "../words";

interface Invitation {
  readonly token: string;
  readonly room: string;
}

const name = "tovik.invitation";

/** The invitation in the address (/visit#room=…&token=…), or that of this tab's last load. */
function invitation(): Invitation | undefined {
  const params = takeFragment();
  const token = params.get("token");
  const room = params.get("room");
  if (token && room) sessionStorage.setItem(name, JSON.stringify({ token, room }));
  return JSON.parse(sessionStorage.getItem(name) ?? "null") ?? undefined;
}

/** A page that takes part in a room, as an application's own page does. */
export function Visit() {
  const [invited] = useState(invitation);
  if (!invited) {
    return (
      <Frame title="Visit">
        <Sheet title="Nobody is invited">
          <p className="p-4">
            This page takes part in a room as a person. Its address wants a room and that person's token:{" "}
            <code className="font-mono text-sm">/visit#room=ROOM&amp;token=TOKEN</code>, minted with{" "}
            <code className="font-mono text-sm">tovik token</code>.
          </p>
        </Sheet>
      </Frame>
    );
  }
  return <Taking invited={invited} />;
}

function Taking({ invited }: { invited: Invitation }) {
  const [snapshot, link] = useLink(() => openTab({ server, token: invited.token, rooms: [invited.room] }));
  const lines = useFeed(link);
  const now = useNow();
  const { state, rooms, opened } = snapshot;
  const room = rooms.get(invited.room);
  return (
    <Frame title="Visit" state={state}>
      <RoomTitle name={invited.room} count={room?.count} />
      {state.word === "refused" ? (
        <Refused state={state}>
          <p className="text-muted text-sm">Mint a fresh token with tovik token and open its address.</p>
        </Refused>
      ) : (
        <div className="grid gap-5 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)] lg:items-start">
          <Sheet>
            {room ? (
              <Members room={room} now={now} you={opened?.user} />
            ) : (
              <p className="p-6 text-muted">
                {state.word === "open" ? "You are not in this room." : "Waiting for the service…"}
              </p>
            )}
          </Sheet>
          <div className="space-y-5">
            {link && <You snapshot={snapshot} link={link} room={invited.room} />}
            <Sheet title="What you saw of others">
              <div className="max-h-72 overflow-y-auto">
                <Feed lines={lines} />
              </div>
            </Sheet>
          </div>
        </div>
      )}
    </Frame>
  );
}

/** The visitor's own session, with actions to try. */
function You({ snapshot, link, room }: { snapshot: Snapshot; link: Link; room: string }) {
  const { state, opened } = snapshot;
  const here = snapshot.rooms.has(room);
  const grace = opened ? seconds(opened.timings.grace_lost) : "the grace";
  const acts = [
    { name: "Reload", act: () => location.reload(), note: "Nobody sees it: the session comes back." },
    {
      name: "Pull the cable for 5 s",
      act: () => link.drop(5000),
      note: `Back within ${grace}: nobody sees it.`,
    },
    {
      name: "Pull the cable for 20 s",
      act: () => link.drop(20_000),
      note: `Longer than ${grace}: you leave, and come again.`,
    },
    here
      ? { name: "Leave the room", act: () => link.leave(room), note: "A leave now. The session goes on." }
      : { name: "Join the room", act: () => link.join(room), note: "You come." },
    { name: "Say bye", act: () => link.bye(), note: "Ends the session now. Reload to come back." },
  ];
  return (
    <Sheet title="You">
      {opened && (
        <p className="border-line border-b px-4 py-2.5 text-sm" data-session={opened.session}>
          {opened.resumed ? "The session you had before, " : "A new session, "}
          link number {opened.link}
          <span className="block truncate font-mono text-muted text-xs">{opened.session}</span>
        </p>
      )}
      <ul className="divide-y divide-line">
        {acts.map((a) => (
          <li key={a.name} className="flex items-center gap-3 px-4 py-2">
            <button
              type="button"
              onClick={a.act}
              disabled={state.word !== "open" && a.name !== "Reload"}
              className="shrink-0 rounded-md border border-line px-3 py-1.5 text-sm hover:bg-wash disabled:opacity-50"
            >
              {a.name}
            </button>
            <span className="text-muted text-xs">{a.note}</span>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}
