import { scalePow } from "d3-scale";
import type { Shape } from "../api";
import { lasting, seconds } from "../words";

/** The policy of a room: GET /v1/policies. Times are in milliseconds. */
export type Policy = Shape<"Policy">;

interface Case {
  readonly happens: string;
  /** How long the service does not notice it. */
  readonly live: number;
  readonly grace: number;
}

const width = 300;

/**
 * The effect of a policy, drawn like lanes: a bar while a session has a link, a dashed bar for its grace, and an end
 * where others see a leave. Short times are drawn longer than to scale.
 */
export function PolicyTimeline({ policy }: { policy: Policy }) {
  const { grace_closing, grace_lost, grace_background, silence, idle_after, longest_ghost } = policy;
  const cases: readonly Case[] = [
    { happens: "Closes or reloads the page", live: 0, grace: grace_closing },
    { happens: "Loses the network", live: 0, grace: grace_lost },
    { happens: "The same, page hidden", live: 0, grace: grace_background },
    {
      happens: "Stops answering",
      live: Math.max(silence, longest_ghost - grace_lost),
      grace: grace_lost,
    },
  ];
  const longest = Math.max(idle_after, ...cases.map((c) => c.live + c.grace));
  const across = scalePow().exponent(0.45).domain([0, longest]).range([0, width]);
  return (
    <table className="w-full text-sm" data-policy={policy.pattern ?? "realm"}>
      <tbody>
        {cases.map((c) => (
          <tr key={c.happens}>
            <th scope="row" className="py-1 pr-3 sm:whitespace-nowrap text-left font-normal">
              {c.happens}
            </th>
            <td className="w-full min-w-16">
              <svg
                viewBox={`0 0 ${width + 12} 14`}
                className="block h-3.5 w-full"
                preserveAspectRatio="none"
                aria-hidden="true"
              >
                <rect y="2" width={across(c.live)} height="10" className="fill-reed" />
                <rect
                  x={across(c.live) + 1}
                  y="2.75"
                  width={Math.max(1, across(c.live + c.grace) - across(c.live) - 2)}
                  height="8.5"
                  className="fill-sheet stroke-lamp"
                  strokeWidth="1.5"
                  strokeDasharray="3 2"
                />
                <path d={`M${across(c.live + c.grace)} 0v14`} className="stroke-flood" strokeWidth="2.5" />
              </svg>
            </td>
            <td className="pl-3 text-right sm:whitespace-nowrap text-muted text-xs">
              leaves after {lasting(c.live + c.grace).replace(".0 ", " ")}
            </td>
          </tr>
        ))}
        <tr>
          <th scope="row" className="py-1 pr-3 sm:whitespace-nowrap text-left font-normal">
            Touches nothing
          </th>
          <td>
            <svg
              viewBox={`0 0 ${width + 12} 14`}
              className="block h-3.5 w-full"
              preserveAspectRatio="none"
              aria-hidden="true"
            >
              <rect y="2" width={across(idle_after)} height="10" className="fill-reed" />
              <path
                d={`M${across(idle_after) + 3} 3v8M${across(idle_after) + 7} 3v8`}
                className="stroke-lamp"
                strokeWidth="2"
              />
            </svg>
          </td>
          <td className="pl-3 text-right sm:whitespace-nowrap text-muted text-xs">
            away after {seconds(idle_after)}
          </td>
        </tr>
      </tbody>
    </table>
  );
}
