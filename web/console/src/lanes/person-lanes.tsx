import { useMemo } from "react";
import type { Session } from "../api";
import { LaneChart, type Row } from "./chart";
import type { Present, Span } from "./lanes";
import { useLanes } from "./use-lanes";
import { useTimeWindow } from "./window";

/** The day of somebody: their sessions, and a row for each room that they were in. */
export function PersonLanes(props: {
  user: string;
  sessions: readonly Session[];
  present: readonly Present[];
  moment?: number | undefined;
}) {
  const { user } = props;
  const controls = useTimeWindow(props.moment === undefined ? 3_600_000 : 4 * 60_000, props.moment);
  const { window } = controls;
  const users = useMemo(() => [user], [user]);
  const lanes = useLanes(users, window, props.sessions, props.present);
  const rows = useMemo<readonly Row[]>(() => {
    const shown = ({ from, to }: Span) => from < window.to && (to ?? Number.POSITIVE_INFINITY) > window.from;
    const rooms = [...Map.groupBy(lanes.stays.filter(shown), (stay) => stay.room)].sort();
    return [
      { key: user, name: "Sessions", bars: lanes.bars.filter(shown), stays: [] },
      ...rooms.map(([room, stays]) => ({ key: room, name: room, href: `/rooms/${room}`, bars: [], stays })),
    ];
  }, [lanes, user, window.from, window.to]);
  return (
    <LaneChart
      rows={rows}
      controls={controls}
      moment={props.moment}
      notice={
        lanes.cut
          ? "There are more entries than can be drawn: what is on the right is missing. Look at a shorter time."
          : undefined
      }
    />
  );
}
