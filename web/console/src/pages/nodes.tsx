import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ask, faultOf, type Shape, useEvents } from "../api";
import { useNow } from "../live";
import { Confirm, Problem } from "../parts/controls";
import { Frame, Sheet } from "../parts/frame";
import { Table } from "../parts/table";
import { Time } from "../parts/time";

type Nodes = Shape<"Nodes">;
type Node = Shape<"Node">;

const colors: Record<Node["state"], string> = {
  ready: "text-reed",
  "not-ready": "text-lamp",
  leaving: "text-lamp",
  away: "text-flood",
};

/** The nodes of the cluster: what each owns and carries, whom it hears, and who owned what before. */
export function NodesPage({ onSignOut }: { onSignOut: () => void }) {
  const [told, setTold] = useState<Nodes>();
  const now = useNow(1000);
  const first = useQuery({ queryKey: ["nodes"], queryFn: () => ask<Nodes>("/v1/nodes") });
  // Only the service's own key may follow them: others are told so by the first answer.
  const heard = useEvents(first.data && "nodes", () => "/v1/nodes", {
    nodes: (data) => setTold(JSON.parse(data)),
  });
  const list = told ?? first.data;
  const drain = useMutation({
    mutationFn: (node: string) =>
      ask<unknown>(`/v1/nodes/${encodeURIComponent(node)}/drain`, { method: "POST" }),
  });
  return (
    <Frame title="Nodes" heard={heard} onSignOut={onSignOut}>
      <h1 className="pb-3 font-semibold text-2xl tracking-tight">Nodes</h1>
      <Problem of={faultOf(first) ?? null} />
      {list && (
        <div className="space-y-5">
          <Sheet title={`The nodes of ${list.cluster}, as ${list.asked} knows them`}>
            <Table
              marker="nodes"
              heads={["Node", "State", "Owns", "Links", "Behind", "Clock", "Broker", "Version", "Since", ""]}
            >
              {list.nodes.map((node) => (
                <Row key={node.node} node={node} now={now} onDrain={() => drain.mutate(node.node)} />
              ))}
            </Table>
            <Problem of={drain.error} />
          </Sheet>
          <div className="grid gap-5 lg:grid-cols-2">
            <Sheet title="Who hears whom">
              <Hearing nodes={list.nodes} />
            </Sheet>
            <Sheet title="Who owns what">
              <Table marker="realms" heads={["Realm", "Owner", "Epoch", "Answers"]}>
                {list.realms.map((realm) => (
                  <tr key={realm.realm}>
                    <td>{realm.realm}</td>
                    <td>{realm.owner ?? "nobody"}</td>
                    <td>{realm.epoch}</td>
                    <td className={realm.answers ? "" : "text-lamp"}>{realm.answers ? "yes" : "no"}</td>
                  </tr>
                ))}
              </Table>
              <Log log={list.log} />
            </Sheet>
          </div>
          <Sheet title={`The last changes of owners since ${list.asked} started`}>
            <Table marker="changes" heads={["When", "Realm", "New owner", "Epoch", "How"]}>
              {list.changes.map((change) => (
                <tr key={`${change.realm} ${change.epoch}`}>
                  <td>
                    <Time at={change.time} now={now} />
                  </td>
                  <td>{change.realm}</td>
                  <td>{change.owner}</td>
                  <td>{change.epoch}</td>
                  <td>{how(change)}</td>
                </tr>
              ))}
            </Table>
          </Sheet>
        </div>
      )}
    </Frame>
  );
}

function how(change: Nodes["changes"][number]): string {
  if (change.handed) return "handed over";
  return change.epoch === 1 ? "the first owner" : "taken over";
}

function Row({ node, now, onDrain }: { node: Node; now: number; onDrain: () => void }) {
  const away = node.state === "away";
  return (
    <tr data-node={node.node}>
      <td className="font-medium">{node.node}</td>
      <td>
        <span className={colors[node.state]}>{node.state}</span>
        {node.because && <p className="text-muted text-xs">{node.because}</p>}
      </td>
      <td>{node.owns.join(", ") || "–"}</td>
      <td>{away ? "–" : node.links}</td>
      <td>{away ? "–" : node.behind}</td>
      <td>{away ? "–" : `${node.clock} ms`}</td>
      <td>{broker(node)}</td>
      <td>{node.version ?? "–"}</td>
      <td>{node.since ? <Time at={node.since} now={now} /> : "–"}</td>
      <td className="text-right">
        {!away && (
          <Confirm
            small
            label="Drain"
            name={`Drain ${node.node}`}
            title={`Drain ${node.node}?`}
            text="It hands its realms over, sends its clients to other nodes, and ends. Nobody is shown to leave. To run it again, start its process."
            onConfirm={onDrain}
          />
        )}
      </td>
    </tr>
  );
}

function broker(node: Node): string {
  if (node.leads?.length) return `leads ${node.leads.join(", ")}`;
  return node.keeps_log ? "keeps the log" : "–";
}

/** A row for each node, with a column for each that it may hear. */
function Hearing({ nodes }: { nodes: readonly Node[] }) {
  return (
    <Table marker="hearing" heads={["Node hears", ...nodes.map((node) => node.node)]}>
      {nodes.map((from) => (
        <tr key={from.node}>
          <th scope="row" className="font-normal">
            {from.node}
          </th>
          {nodes.map((to) => {
            const hears = !from.unheard?.includes(to.node);
            const known = from.state !== "away" && from !== to;
            return (
              <td key={to.node} className={known && !hears ? "text-flood" : "text-muted"}>
                {known ? (hears ? "yes" : "no") : "–"}
              </td>
            );
          })}
        </tr>
      ))}
    </Table>
  );
}

function Log({ log }: { log: Nodes["log"] }) {
  const share = log.most ? Math.round((100 * log.bytes) / log.most) : 0;
  return (
    <p className="border-line border-t px-4 py-2.5 text-muted text-sm">
      The log has records {log.first} to {log.last}, {share} % of the space it may take.{" "}
      <span className={log.current < log.copies ? "text-lamp" : ""}>
        {log.current} of {log.copies} copies are complete.
      </span>
    </p>
  );
}
