import { useEffect } from "react";
import { Link } from "wouter";
import { useFeed, useNow, useWatch } from "../live";
import { Feed } from "../parts/feed";
import { Frame, Refused, RoomTitle, Sheet } from "../parts/frame";
import { Members } from "../parts/members";
import { Rules } from "../parts/rules";

/** One room: who is in it, and what has changed, live. */
export function RoomPage(props: { room: string; onSignOut: () => void }) {
  const [{ state, rooms, welcome }, link] = useWatch([{ room: props.room, detail: "members" }]);
  const lines = useFeed(link);
  const now = useNow();
  const room = rooms.get(props.room);
  useEffect(() => {
    document.title = `${props.room} · Tovik`;
  }, [props.room]);
  return (
    <Frame state={state} onSignOut={props.onSignOut}>
      <nav className="pb-1 text-sm">
        <Link href="/" className="text-water hover:underline">
          All rooms
        </Link>
      </nav>
      <RoomTitle name={props.room} count={room?.count} />
      {state.word === "refused" ? (
        <Refused state={state} />
      ) : (
        <div className="grid gap-5 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)] lg:items-start">
          <Sheet>
            {room ? (
              <div className={state.word === "open" ? "" : "opacity-60"}>
                <Members room={room} now={now} linked />
              </div>
            ) : (
              <p className="p-6 text-muted">Waiting for the service…</p>
            )}
          </Sheet>
          <div className="space-y-5">
            <Sheet title="What others saw">
              <div className="max-h-80 overflow-y-auto">
                <Feed lines={lines} />
              </div>
            </Sheet>
            {welcome && (
              <Sheet title="How long somebody still counts">
                <Rules timings={welcome.timings} />
              </Sheet>
            )}
          </div>
        </div>
      )}
    </Frame>
  );
}
