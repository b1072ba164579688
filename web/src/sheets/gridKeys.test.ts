import { describe, expect, test } from "vitest";
import type { Sheet } from "../api/client";
import { type Pressed, pressed } from "./gridKeys";
import { chosenCells, only, toggledRow, wholeRow } from "./selection";

const ROWS = 30;
const COLUMNS = 4;

const sheet = (() => {
  const sources = Array.from({ length: ROWS }, (_, row) => ({ id: `s${String(row)}` }));
  const deliverables = Array.from({ length: COLUMNS }, (_, column) => ({ id: `d${String(column)}` }));
  const cells = sources.flatMap((source) =>
    deliverables.map((column) => ({ source: source.id, deliverable: column.id })),
  );
  return { id: "sheet", seq: 1, name: "Weekly", sources, deliverables, cells } as unknown as Sheet;
})();

const at = (row: number, column: number) => only({ source: `s${String(row)}`, deliverable: `d${String(column)}` });
const key = (name: string, more: Partial<Pressed> = {}): Pressed => ({
  key: name,
  shiftKey: false,
  ctrlKey: false,
  metaKey: false,
  ...more,
});

describe("keys of the matrix", () => {
  test.each([
    ["ArrowDown", {}, [6, 1]],
    ["ArrowLeft", {}, [5, 0]],
    ["PageDown", {}, [15, 1]],
    ["PageUp", {}, [0, 1]],
    ["Home", {}, [5, 0]],
    ["End", {}, [5, 3]],
    ["Home", { ctrlKey: true }, [0, 0]],
    ["End", { ctrlKey: true }, [29, 3]],
    ["End", { metaKey: true }, [29, 3]],
  ] as const)("%s %j leads to %j", (name, more, [row, column]) => {
    expect(pressed(key(name, more), sheet, at(5, 1), 10)).toEqual(at(row, column));
  });

  test("Shift draws a rectangle from where it began", () => {
    const down = pressed(key("PageDown", { shiftKey: true }), sheet, at(5, 1), 10);
    const corner = pressed(key("End", { shiftKey: true }), sheet, down, 10);
    expect(chosenCells(sheet, corner)).toHaveLength(11 * 3);
    expect(corner?.anchor).toEqual({ source: "s5", deliverable: "d1" });
  });

  test("Space chooses rows and columns with Shift and Ctrl, and nothing alone", () => {
    const row = pressed(key(" ", { shiftKey: true }), sheet, at(5, 1), 10);
    expect(row?.head).toEqual({ rows: ["s5"] });
    // From a whole row Shift goes on by whole rows, in both directions.
    const three = pressed(
      key("ArrowDown", { shiftKey: true }),
      sheet,
      pressed(key("ArrowDown", { shiftKey: true }), sheet, row, 10),
      10,
    );
    expect(three?.head).toEqual({ rows: ["s5", "s6", "s7"] });
    const four = pressed(key("PageUp", { shiftKey: true }), sheet, row, 3);
    expect(four?.head).toEqual({ rows: ["s2", "s3", "s4", "s5"] });
    expect(chosenCells(sheet, four)).toHaveLength(4 * COLUMNS);
    expect(pressed(key(" ", { ctrlKey: true }), sheet, at(5, 1), 10)?.head).toEqual({ column: "d1" });
    expect(pressed(key(" "), sheet, at(5, 1), 10)).toBeNull();
    expect(chosenCells(sheet, pressed(key("a", { ctrlKey: true }), sheet, null, 10))).toHaveLength(ROWS * COLUMNS);
    expect(pressed(key("a"), sheet, at(5, 1), 10)).toBeNull();
  });

  test("rows are chosen one by one, and the last one stays", () => {
    const two = toggledRow(sheet, toggledRow(sheet, wholeRow(sheet, "s9"), "s2"), "s20");
    expect(two?.head).toEqual({ rows: ["s2", "s9", "s20"] });
    const one = toggledRow(sheet, toggledRow(sheet, two, "s9"), "s2");
    expect(one?.head).toEqual({ rows: ["s20"] });
    expect(toggledRow(sheet, one, "s20")?.head).toEqual({ rows: ["s20"] });
  });

  test("with nothing chosen, the first key chooses the first cell", () => {
    expect(pressed(key("ArrowDown"), sheet, null, 10)).toEqual(at(0, 0));
  });
});
