import { expect, test } from "vitest";
import { panned, WHOLE, zoomed } from "./zoom";

const ROOM = [800, 450] as const;
const under = (zoom: { times: number; x: number; y: number }, at: readonly [number, number]) => [
  (at[0] - zoom.x) / zoom.times,
  (at[1] - zoom.y) / zoom.times,
];

test("what lies under the pointer stays there", () => {
  let zoom = WHOLE;
  const at = [610, 100] as const;
  for (let step = 0; step < 8; step += 1) {
    const next = zoomed(zoom, 1.5, at, ROOM);
    expect(under(next, at)[0]).toBeCloseTo(under(zoom, at)[0] ?? 0);
    expect(under(next, at)[1]).toBeCloseTo(under(zoom, at)[1] ?? 0);
    zoom = next;
  }
  expect(zoom.times).toBe(16);
});

test("the room stays filled, and out of it all the whole comes back", () => {
  const corner = panned(zoomed(WHOLE, 4, [0, 0], ROOM), 5000, 5000, ROOM);
  expect(corner).toEqual({ times: 4, x: 0, y: 0 });
  const other = panned(corner, -1e5, -1e5, ROOM);
  expect(other).toEqual({ times: 4, x: -2400, y: -1350 });
  expect(zoomed(other, 0.01, [10, 10], ROOM)).toEqual(WHOLE);
});
