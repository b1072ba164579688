import { describe, expect, test } from "vitest";
import type { Cell, Sheet } from "../api/client";
import { isRunnable, sums, totals, weight } from "./totals";

const cell = (more: object): Cell => ({ source: "s0", deliverable: "d0", enabled: true, forecast: 100, ...more });
const run = (state: string, more: object = {}) => ({ run: { id: "r", state, ...more } });

describe("what a cell weighs", () => {
  test.each([
    ["its forecast before it is made", cell({}), 100],
    ["the truth once it is made", cell(run("done", { size: 80 })), 80],
    ["the truth while a person decides", cell(run("withheld", { size: 70 })), 70],
    [
      "its forecast again once other settings are wanted",
      cell({ ...run("done", { size: 80 }), is_out_of_date: true }),
      100,
    ],
    ["its forecast while it is made", cell(run("running", { size: 30 })), 100],
    ["its forecast where it failed", cell(run("failed")), 100],
    ["nothing where nothing is known", cell({ forecast: null }), 0],
  ])("is %s", (_, cell, bytes) => {
    expect(weight(cell)).toBe(bytes);
  });
});

describe("what “Run” would queue", () => {
  test.each([
    ["a cell that was never made", cell({}), true],
    ["one that failed", cell(run("failed")), true],
    ["one that was cancelled", cell(run("cancelled")), true],
    ["one that was made with other settings", cell({ ...run("done"), is_out_of_date: true }), true],
    ["one that is made", cell(run("done")), false],
    ["one that waits", cell(run("waiting")), false],
    ["one that is held", cell(run("paused")), false],
    ["one whose file waits for a decision", cell(run("withheld")), false],
    ["one that is switched off", cell({ enabled: false }), false],
    ["one that cannot be made", cell({ refusal: "the source has no sound" }), false],
    ["one whose source is still being read", cell({ forecast: null }), false],
  ])("%s: %j", (_, cell, is) => {
    expect(isRunnable(cell)).toBe(is);
  });
});

/** Three sources and two deliverables, in all states that add up differently. */
const sheet = {
  id: "sheet",
  sources: [
    { id: "s0", size: 1000 },
    { id: "s1", size: 2000, taken_size: 500 },
    { id: "s2", size: null },
  ],
  deliverables: [{ id: "d0" }, { id: "d1" }],
  cells: [
    cell({ deliverable: "d0", ...run("done", { size: 90 }) }),
    cell({ deliverable: "d1", ...run("running", { progress: { fraction: 0.25, remaining: 40 } }) }),
    cell({ source: "s1", deliverable: "d0", ...run("failed") }),
    cell({ source: "s1", deliverable: "d1", enabled: false }),
    cell({ source: "s2", deliverable: "d0", ...run("paused") }),
    cell({ source: "s2", deliverable: "d1", ...run("withheld", { size: 60 }) }),
  ],
} as unknown as Sheet;

describe("the sums of a sheet", () => {
  test("count each source once in its row and in all, and once in each column", () => {
    const { rows, columns, all } = sums(sheet);
    expect(all).toMatchObject({ wanted: 5, done: 1, working: 1, failed: 1, held: 1, withheld: 1 });
    // Of the second source half is taken; of the third nothing is known.
    expect(all.before).toBe(1500);
    expect(rows.map(({ before }) => before)).toEqual([1000, 500, 0]);
    expect(columns.map(({ before }) => before)).toEqual([1500, 1000]);
    expect(all.after).toBe(90 + 100 + 100 + 100 + 60);
    expect(rows.reduce((sum, { after }) => sum + after, 0)).toBe(all.after);
    expect(columns.reduce((sum, { after }) => sum + after, 0)).toBe(all.after);
  });

  test("tell how far all of it is, and how long what runs still takes", () => {
    const { all } = sums(sheet);
    expect(all.fraction).toBeCloseTo((1 + 0.25) / 5);
    expect(all.left).toBe(40);
  });

  test("name what can be run and what is under way", () => {
    const { ready, open } = sums(sheet);
    expect(ready.map(({ source, deliverable }) => `${source} ${deliverable}`)).toEqual(["s1 d0"]);
    expect(open.map(({ run }) => run?.state)).toEqual(["running", "paused"]);
  });

  test("are those of the same cells taken by themselves", () => {
    expect(totals(sheet, sheet.cells)).toEqual(sums(sheet).all);
    expect(totals(sheet, [])).toMatchObject({ wanted: 0, fraction: 0, before: 0 });
  });

  test("are made once for each state of a sheet", () => {
    expect(sums(sheet)).toBe(sums(sheet));
    expect(sums({ ...sheet })).not.toBe(sums(sheet));
  });
});
