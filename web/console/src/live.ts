import { Link, type Snapshot, unopened } from "@client/link";
import type { Change } from "@client/replica";
import type { Watch } from "@client/wire";
import { useEffect, useState } from "react";
import { useSearch } from "wouter";

/** The service's URL: where the pages come from. */
export const server = location.origin;

/** A link that lives as long as the component, with its snapshot. */
export function useLink(open: () => { link: Link; close: () => void }): [Snapshot, Link | undefined] {
  const [link, setLink] = useState<Link>();
  // biome-ignore lint/correctness/useExhaustiveDependencies: one link for one life of the component
  useEffect(() => {
    const opened = open();
    setLink(opened.link);
    return () => opened.close();
  }, []);
  const [snapshot, setSnapshot] = useState(unopened);
  useEffect(() => {
    if (!link) return;
    const show = () => setSnapshot(link.snapshot);
    show();
    return oncePerFrame(show, (changed) => link.subscribe(changed));
  }, [link]);
  return [snapshot, link];
}

/** A hidden page has no animation frames; it is updated after this time, in milliseconds. */
const unseen = 250;

/**
 * Does something after changes, at most once per animation frame. It gets a function that subscribes to the changes,
 * and returns one that stops everything.
 */
export function oncePerFrame(run: () => void, follow: (changed: () => void) => () => void): () => void {
  let undo: (() => void) | undefined;
  const forget = () => {
    undo?.();
    undo = undefined;
  };
  const stop = follow(() => {
    if (undo) return;
    const now = () => {
      forget();
      run();
    };
    const frame = requestAnimationFrame(now);
    const timer = setTimeout(now, unseen);
    undo = () => {
      cancelAnimationFrame(frame);
      clearTimeout(timer);
    };
  });
  return () => {
    forget();
    stop();
  };
}

/** Follows rooms as the signed-in operator. */
export function useWatch(watch: readonly Watch[]): [Snapshot, Link | undefined] {
  return useLink(() => {
    const link = openLink(watch);
    return { link, close: () => link.close() };
  });
}

/** A link of the signed-in operator. There are few of them, so it may try often to reconnect. */
export function openLink(watch: readonly Watch[]): Link {
  return new Link({ server, watch, longestWait: 1500 });
}

/** A line in the feed of a room. */
export interface Line extends Change {
  readonly id: number;
  readonly seen: number;
}

/** The newest changes of a link's rooms, newest first. */
export function useFeed(link: Link | undefined, most = 60): readonly Line[] {
  const [lines, setLines] = useState<readonly Line[]>([]);
  useEffect(() => {
    let id = 0;
    return link?.onChange((change) => {
      if (change.joined.length + change.changed.length + change.left.length === 0) return; // of doing, which is shown
      const line = { ...change, id: ++id, seen: Date.now() };
      setLines((lines) => [line, ...lines].slice(0, most));
    });
  }, [link, most]);
  return lines;
}

/** The moment in the address (?at=), in milliseconds since 1970. */
export function useMoment(): number | undefined {
  const at = Date.parse(new URLSearchParams(useSearch()).get("at") ?? "");
  return Number.isNaN(at) ? undefined : at;
}

/** The current time, updated every second, or more often. */
export function useNow(every = 1000): number {
  const [now, setNow] = useState(Date.now);
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), every);
    return () => clearInterval(timer);
  }, [every]);
  return now;
}
