import { describe, expect, test } from "vitest";
import type { Sheet } from "../api/client";
import { type Pressed, pressed } from "./gridKeys";
import { chosenCells, only } from "./selection";

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
    expect(pressed(key(" ", { shiftKey: true }), sheet, at(5, 1), 10)?.head).toEqual({ row: "s5" });
    expect(pressed(key(" ", { ctrlKey: true }), sheet, at(5, 1), 10)?.head).toEqual({ column: "d1" });
    expect(pressed(key(" "), sheet, at(5, 1), 10)).toBeNull();
    expect(chosenCells(sheet, pressed(key("a", { ctrlKey: true }), sheet, null, 10))).toHaveLength(ROWS * COLUMNS);
    expect(pressed(key("a"), sheet, at(5, 1), 10)).toBeNull();
  });

  test("with nothing chosen, the first key chooses the first cell", () => {
    expect(pressed(key("ArrowDown"), sheet, null, 10)).toEqual(at(0, 0));
  });
});
