import { useMemo } from "react";
import type { Session } from "../api";
import { LaneChart } from "./chart";
import { type Present, within } from "./lanes";
import type { Row } from "./row-marks";
import { useLanes } from "./use-lanes";
import { useTimeWindow } from "./window";

/** A person's lanes: their sessions, and a row for each room that they were in. */
export function PersonLanes(props: {
  user: string;
  sessions: readonly Session[];
  present: readonly Present[];
  moment?: number | undefined;
}) {
  const { user } = props;
  const controls = useTimeWindow(props.moment === undefined ? 15 * 60_000 : 4 * 60_000, props.moment);
  const { window } = controls;
  const users = useMemo(() => [user], [user]);
  const lanes = useLanes(users, window, props.sessions, props.present);
  const rows = useMemo<ReadonlyMap<string, Row>>(() => {
    const rooms = [...Map.groupBy(within(lanes.stays, window), (stay) => stay.room)].sort();
    return new Map<string, Row>([
      [user, { key: user, name: "Sessions", bars: within(lanes.bars, window), stays: [] }],
      ...rooms.map(
        ([room, stays]) =>
          [room, { key: room, name: room, href: `/rooms/${room}`, bars: [], stays }] as const,
      ),
    ]);
  }, [lanes, user, window]);
  const keys = useMemo(() => [...rows.keys()], [rows]);
  return (
    <LaneChart
      keys={keys}
      rowOf={(key) => rows.get(key) as Row}
      controls={controls}
      moment={props.moment}
      notice={
        lanes.cut
          ? "There are more entries than can be drawn, so the right side is incomplete. Choose a shorter time."
          : undefined
      }
    />
  );
}
