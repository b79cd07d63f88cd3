import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "wouter";
import { ask, faultOf, type People, query, useAskAgain, useJournalStream } from "../api";
import { useNow } from "../live";
import { PersonLink } from "../parts/entries";
import { Frame, Sheet } from "../parts/frame";
import { StatusMark } from "../parts/status-mark";
import { Table } from "../parts/table";
import { Time } from "../parts/time";
import { Field } from "./journal";

/** Everybody in the directory, including those offline. */
export function PeoplePage({ onSignOut }: { onSignOut: () => void }) {
  const [text, setText] = useState("");
  const [after, setAfter] = useState("");
  const now = useNow();
  const page = useQuery({
    queryKey: ["people", text, after],
    queryFn: () => ask<People>(`/v1/people${query({ text, after, limit: 100 })}`),
    placeholderData: (before) => before,
  });
  const fault = faultOf(page);
  const open = useJournalStream(
    { kind: ["status.changed", "session.opened", "session.ended", "member.joined", "member.left"] },
    ["people"],
    useAskAgain([["people"]], 100),
  );
  const list = page.data?.people ?? [];
  return (
    <Frame title="People" heard={open} onSignOut={onSignOut}>
      <h1 className="pb-3 font-semibold text-2xl tracking-tight">People</h1>
      <div className="pb-4 text-sm">
        <Field
          label="Name or id"
          hint="marrow"
          value={text}
          onChange={(value) => {
            setText(value);
            setAfter("");
          }}
        />
      </div>
      {fault ? (
        <p role="alert" className="rounded-md border border-line bg-wash px-4 py-2.5 text-sm">
          {fault.message}
        </p>
      ) : (
        <Sheet>
          {list.length === 0 ? (
            <p className="p-4 text-muted text-sm">
              {page.isPending
                ? "Waiting for the service…"
                : text === ""
                  ? "Nobody is known yet."
                  : "No name or id contains this."}
            </p>
          ) : (
            <Table heads={["Person", "Status", "Last seen", "Rooms"]} marker="people">
              {list.map((p) => (
                <tr key={p.user} data-user={p.user}>
                  <td>
                    <PersonLink user={p.user} name={p.name} />
                  </td>
                  <td>
                    <StatusMark status={p.status} />
                    {p.note && <span className="text-muted"> {p.note}</span>}
                    {p.hidden && <span className="text-muted"> · hides</span>}
                  </td>
                  <td className="text-muted">
                    {p.status !== "offline" ? (
                      "now"
                    ) : p.last_seen ? (
                      <Time at={p.last_seen} now={now} />
                    ) : (
                      "never"
                    )}
                  </td>
                  <td className="font-mono text-xs">
                    {(p.rooms ?? []).map((room) => (
                      <Link key={room} href={`/rooms/${room}`} className="mr-3 text-water hover:underline">
                        {room}
                      </Link>
                    ))}
                  </td>
                </tr>
              ))}
            </Table>
          )}
        </Sheet>
      )}
      <div className="flex gap-3 pt-3">
        {after && (
          <button
            type="button"
            onClick={() => setAfter("")}
            className="rounded-md border border-line px-4 py-2 text-sm hover:bg-wash"
          >
            From the beginning
          </button>
        )}
        {page.data?.next && (
          <button
            type="button"
            onClick={() => setAfter(page.data.next ?? "")}
            className="rounded-md border border-line px-4 py-2 text-sm hover:bg-wash"
          >
            More people
          </button>
        )}
      </div>
    </Frame>
  );
}
