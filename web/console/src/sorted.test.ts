import { expect, test } from "vitest";
import { resorted } from "./sorted";

interface One {
  readonly id: number;
  readonly weight: number;
}

/** A generator of the same numbers each time (Park and Miller). */
function numbers(seed: number): (below: number) => number {
  let state = seed;
  return (below) => {
    state = (state * 48_271) % 2_147_483_647;
    return state % below;
  };
}

test("a list follows what it is made of, whatever changes", () => {
  const next = numbers(7);
  const before = (a: One, b: One) => a.weight < b.weight || (a.weight === b.weight && a.id < b.id);
  let now = new Map<number, One>();
  let list: readonly One[] = [];
  for (let round = 0; round < 400; round++) {
    const was = now;
    now = new Map(now);
    for (let changes = next(round % 10 === 0 ? 60 : 4); changes >= 0; changes--) {
      const id = next(80);
      if (next(3) === 0) now.delete(id);
      else now.set(id, { id, weight: next(20) });
    }
    list = resorted(list, was, now, (one) => one.id, before);
    expect(list).toEqual([...now.values()].sort((a, b) => a.weight - b.weight || a.id - b.id));
  }
});
