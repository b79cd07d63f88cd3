import { Tooltip } from "radix-ui";
import { ago, exact } from "../words";

/** How long ago a time was, with the exact time on hover and focus. */
export function Time({ at, now }: { at: string; now: number }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger className="cursor-default whitespace-nowrap">
        <time dateTime={at}>{ago(Date.parse(at), now)}</time>
      </Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content sideOffset={6} className="rounded bg-ink px-2 py-1 text-paper text-xs">
          {exact(at)}
          <Tooltip.Arrow className="fill-ink" />
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}
