import { expect, test } from "vitest";
import type { Crop } from "../api/client";
import { byHand, dragged, type Edges, ruleOf } from "./crop";

const [WIDTH, HEIGHT] = [1920, 1080];
const part = { x: 100, y: 50, width: 800, height: 600 };
const drag = (edges: Edges, across: number, down: number) => dragged(part, edges, across, down, WIDTH, HEIGHT);

test("the whole is moved and stays inside", () => {
  expect(drag({ x: 0, y: 0 }, 20, -10)).toEqual({ ...part, x: 120, y: 40 });
  expect(drag({ x: 0, y: 0 }, 5000, 5000)).toEqual({ ...part, x: WIDTH - 800, y: HEIGHT - 600 });
  expect(drag({ x: 0, y: 0 }, -5000, -5000)).toEqual({ ...part, x: 0, y: 0 });
});

test("an edge is moved alone, and never past the one opposite", () => {
  expect(drag({ x: -1, y: 0 }, 50, 99)).toEqual({ ...part, x: 150, width: 750 });
  expect(drag({ x: 1, y: 1 }, 10_000, 10_000)).toEqual({ ...part, width: WIDTH - 100, height: HEIGHT - 50 });
  expect(drag({ x: -1, y: -1 }, 10_000, 10_000)).toEqual({ x: 884, y: 634, width: 16, height: 16 });
});

test("whatever is dragged, edges lie on even columns and lines inside the picture", () => {
  for (let step = -37; step < 2000; step += 61) {
    for (const x of [-1, 0, 1] as const) {
      for (const y of [-1, 0, 1] as const) {
        const to = drag({ x, y }, step, -step / 3);
        expect([to.x % 2, to.y % 2, to.width % 2, to.height % 2]).toEqual([0, 0, 0, 0]);
        expect(to.x >= 0 && to.y >= 0 && to.x + to.width <= WIDTH && to.y + to.height <= HEIGHT).toBe(true);
      }
    }
  }
});

test("a rectangle is kept as what is cut off each side", () => {
  const crop = { width: WIDTH, height: HEIGHT } as Crop;
  expect(byHand(part, crop)).toEqual({ rule: "by_hand", left: 100, top: 50, right: 1020, bottom: 430 });
  expect(ruleOf({ picture: { crop: { rule: "bars" } } })).toEqual({ rule: "bars" });
  expect(ruleOf({})).toBeNull();
});
