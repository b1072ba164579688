import { expect, test } from "vitest";
import type { Sheet } from "../api/client";
import { foldersOf, movedColumn, seen, type View, WHOLE } from "./view";

function sheetOf(names: [string, string][], columns: string[]): Sheet {
  const sources = names.map(([name, folder], place) => ({
    id: `s${String(place)}`,
    name,
    folder,
    summary: place % 2 === 0 ? "1920×1080 · 25p" : "720×576 · 25i",
    findings: place % 3 === 0 ? ["letterbox, 1920×800"] : [],
    seconds: place,
    size: 1000 - place,
  }));
  const deliverables = columns.map((id) => ({ id }));
  const cells = sources.flatMap((source) =>
    deliverables.map((column, place) => ({
      source: source.id,
      deliverable: column.id,
      enabled: true,
      ...(place === 0 && source.id === "s1" && { run: { id: "r", state: "failed" } }),
    })),
  );
  return { id: "sheet", name: "", seq: 0, sources, deliverables, cells } as unknown as Sheet;
}

const sheet = sheetOf(
  [
    ["clip-10.mov", "b"],
    ["clip-9.mov", "a"],
    ["intro.mov", "a"],
    ["clip-1.mov", "a"],
  ],
  ["web", "proxy", "sound"],
);
const looked = (view: Partial<View>) => seen(sheet, { ...WHOLE, ...view });
const names = (view: Partial<View>) => looked(view).sources.map((source) => source.name);

test("a sheet that is looked at as it is stays the same", () => {
  expect(looked({})).toBe(sheet);
});

test("rows are found by all words that they have, wherever these stand", () => {
  expect(names({ search: "CLIP" })).toEqual(["clip-10.mov", "clip-9.mov", "clip-1.mov"]);
  expect(names({ search: "letterbox 25p" })).toEqual(["clip-10.mov"]);
  expect(names({ search: "nothing" })).toEqual([]);
  expect(names({ state: "failed" })).toEqual(["clip-9.mov"]);
  expect(names({ folder: "a", state: "to make" })).toEqual(["clip-9.mov", "intro.mov", "clip-1.mov"]);
  expect(names({ suggested: ["s2"] })).toEqual(["intro.mov"]);
});

test("names are ordered as people count, and what weighs most comes first", () => {
  expect(names({ order: "name" })).toEqual(["clip-1.mov", "clip-9.mov", "clip-10.mov", "intro.mov"]);
  expect(names({ order: "folder" })).toEqual(["clip-1.mov", "clip-9.mov", "intro.mov", "clip-10.mov"]);
  expect(names({ order: "length" })[0]).toBe("clip-1.mov");
});

test("each cell stays with its row and its column, whatever is moved and hidden", () => {
  const view = movedColumn(sheet.deliverables, { ...WHOLE, order: "name", hidden: ["proxy"] }, "sound", -2);
  const shown = seen(sheet, view);
  expect(shown.deliverables.map((column) => column.id)).toEqual(["sound", "web"]);
  shown.cells.forEach((cell, place) => {
    expect(cell.source).toBe(shown.sources[Math.floor(place / 2)]?.id);
    expect(cell.deliverable).toBe(shown.deliverables[place % 2]?.id);
  });
  // At the edge a column stays where it is.
  expect(movedColumn(sheet.deliverables, view, "sound", -1)).toBe(view);
});

test("folders are offered where there is more than one", () => {
  expect(foldersOf(sheet.sources)).toEqual(["a", "b"]);
  expect(foldersOf(sheetOf([["x", ""]], []).sources)).toEqual([]);
});
