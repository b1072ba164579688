import { describe, expect, test } from "vitest";
import type { Sheet } from "../api/client";
import {
  chosenCells,
  everything,
  extended,
  extendedRows,
  idOf,
  only,
  type Selection,
  shapeOf,
  those,
  toggled,
  toggledRow,
  wholeColumn,
  wholeRow,
  wholeRows,
} from "./selection";

const sheet = (() => {
  const sources = ["a", "b", "c", "d"].map((id) => ({ id }));
  const deliverables = ["x", "y", "z"].map((id) => ({ id }));
  const cells = sources.flatMap((source) =>
    deliverables.map((column) => ({
      source: source.id,
      deliverable: column.id,
      ...(column.id === "y" && { run: { state: "failed" } }),
    })),
  );
  return { id: "sheet", sources, deliverables, cells } as unknown as Sheet;
})();

const key = (text: string) => ({ source: text[0] ?? "", deliverable: text[1] ?? "" });
const chosen = (selection: Selection | null) =>
  chosenCells(sheet, selection)
    .map(({ source, deliverable }) => source + deliverable)
    .join(" ");
const shape = (selection: Selection | null) => shapeOf(selection, chosenCells(sheet, selection));

describe("cells", () => {
  test("are chosen one by one with Ctrl; the last one stays", () => {
    let selection = toggled(null, key("ax"));
    selection = toggled(selection, key("cz"));
    expect(chosen(selection)).toBe("ax cz");
    selection = toggled(selection, key("ax"));
    expect(chosen(selection)).toBe("cz");
    expect(chosen(toggled(selection, key("cz")))).toBe("cz");
  });

  test("fill a rectangle with Shift, whichever way it is drawn", () => {
    for (const [from, to] of [
      ["ax", "by"],
      ["by", "ax"],
      ["ay", "bx"],
    ] as const) {
      const selection = extended(sheet, only(key(from)), key(to));
      expect(chosen(selection)).toBe("ax ay bx by");
      // It goes on from where it began.
      expect(chosen(extended(sheet, selection, key(from)))).toBe(from);
    }
  });

  test("are found by what they are like", () => {
    const failed = those(sheet, (cell) => cell.run?.state === "failed");
    expect(chosen(failed)).toBe("ay by cy dy");
    expect(failed?.cursor).toEqual(key("ay"));
    expect(those(sheet, () => false)).toBeNull();
  });
});

describe("rows", () => {
  test("are chosen as a whole, one more or one less with Ctrl, and never none", () => {
    let selection = wholeRow(sheet, "b");
    expect(shape(selection)).toEqual({ kind: "row", source: "b" });
    selection = toggledRow(sheet, selection, "d");
    expect(shape(selection)).toEqual({ kind: "rows", sources: ["b", "d"] });
    expect(selection?.cursor.source).toBe("d");
    selection = toggledRow(sheet, selection, "b");
    expect(shape(selection)).toEqual({ kind: "row", source: "d" });
    selection = toggledRow(sheet, selection, "d");
    expect(shape(selection)).toEqual({ kind: "row", source: "d" });
  });

  test("are chosen from one to another with Shift, in the order of the sheet", () => {
    const down = extendedRows(sheet, wholeRow(sheet, "b"), "d");
    expect(shape(down)).toEqual({ kind: "rows", sources: ["b", "c", "d"] });
    const up = extendedRows(sheet, down, "a");
    expect(shape(up)).toEqual({ kind: "rows", sources: ["a", "b"] });
    expect(up?.anchor.source).toBe("b");
    expect(shape(extendedRows(sheet, null, "c"))).toEqual({ kind: "row", source: "c" });
  });

  test("that were asked for in any order, or are not there, are those of the sheet", () => {
    expect(shape(wholeRows(sheet, ["d", "gone", "a"]))).toEqual({ kind: "rows", sources: ["a", "d"] });
    expect(wholeRows(sheet, ["gone"])).toBeNull();
  });
});

test("a column, everything and single cells are told apart", () => {
  expect(shape(wholeColumn(sheet, "y"))).toEqual({ kind: "column", deliverable: "y" });
  expect(chosen(wholeColumn(sheet, "y"))).toBe("ay by cy dy");
  expect(chosenCells(sheet, everything(sheet))).toHaveLength(12);
  expect(shape(everything(sheet))).toEqual({ kind: "several" });
  expect(shape(only(key("bz")))).toMatchObject({ kind: "cell", cell: key("bz") });
  expect(shape(null)).toBeNull();
  // What was chosen on another sheet is nothing here.
  expect(shape({ ...only(key("bz")), cells: new Set(["elsewhere there"]) })).toBeNull();
});

test("an empty sheet has nothing to choose", () => {
  const empty = { ...sheet, sources: [], cells: [] } as unknown as Sheet;
  expect(everything(empty)).toBeNull();
  expect(wholeRow({ ...sheet, deliverables: [] }, "a")).toBeNull();
  expect(idOf(key("ax"))).toBe("a x");
});
