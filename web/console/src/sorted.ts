import { useRef } from "react";

/** The position of something in a sorted list. */
function placeOf<T>(list: readonly T[], one: T, before: (a: T, b: T) => boolean): number {
  let [from, to] = [0, list.length];
  while (from < to) {
    const middle = (from + to) >> 1;
    if (before(list[middle] as T, one)) from = middle + 1;
    else to = middle;
  }
  return from;
}

/**
 * Updates the sorted list of a map to its new content. Only new elements are sorted, so that lists of thousands can
 * follow many changes per second.
 */
export function resorted<K, T>(
  list: readonly T[],
  was: ReadonlyMap<K, T>,
  now: ReadonlyMap<K, T>,
  keyOf: (one: T) => K,
  before: (a: T, b: T) => boolean,
): readonly T[] {
  const kept: T[] = [];
  const moved: T[] = [];
  for (const one of list) {
    const newer = now.get(keyOf(one));
    if (newer === one) kept.push(one);
    else if (newer === undefined) continue;
    else if (before(newer, one) || before(one, newer)) moved.push(newer);
    else kept.push(newer);
  }
  if (kept.length + moved.length < now.size) for (const [key, one] of now) if (!was.has(key)) moved.push(one);
  if (moved.length > kept.length / 4) return [...kept, ...moved].sort((a, b) => (before(a, b) ? -1 : 1));
  for (const one of moved) kept.splice(placeOf(kept, one, before), 0, one);
  return kept;
}

/** The content of a map, sorted. */
export function useSorted<K, T>(
  now: ReadonlyMap<K, T>,
  keyOf: (one: T) => K,
  before: (a: T, b: T) => boolean,
): readonly T[] {
  const last = useRef<{ now: ReadonlyMap<K, T>; list: readonly T[] }>({ now: new Map(), list: [] });
  const { now: was, list } = last.current;
  if (was !== now) last.current = { now, list: resorted(list, was, now, keyOf, before) };
  return last.current.list;
}
