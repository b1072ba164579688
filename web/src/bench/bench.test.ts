import { expect, test } from "vitest";
import { shuttled } from "./position";

const pressed = (...directions: (1 | -1)[]) => directions.reduce((speed, direction) => shuttled(speed, direction), 0);

test("each press plays faster in its direction, up to a limit", () => {
  expect([1, 2, 3, 4, 5, 6].map((times) => pressed(...Array<1>(times).fill(1)))).toEqual([1, 2, 4, 8, 8, 8]);
  expect(pressed(-1, -1, -1)).toBe(-4);
});

test("a press against the motion slows it down, and then turns it round", () => {
  expect(pressed(1, 1, 1, -1)).toBe(2);
  expect(pressed(1, 1, 1, -1, -1)).toBe(1);
  expect(pressed(1, 1, 1, -1, -1, -1)).toBe(-1);
});
