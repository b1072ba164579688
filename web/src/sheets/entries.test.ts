import { expect, test } from "vitest";
import type { Entry } from "../api/client";
import { orderedEntries, range } from "./entries";

const entry = (name: string, size: number, is_folder = false) =>
  ({ name, path: name, size, is_folder, is_media: true }) as Entry;
const entries = [entry("clip-10.mov", 5), entry("clip-2.mov", 9), entry("day", 0, true), entry("notes clip.mov", 1)];
const names = (search: string, order: "name" | "size") =>
  orderedEntries(entries, search, order).map(({ name }) => name);

test("folders come first, then names as people count or what weighs most", () => {
  expect(names("", "name")).toEqual(["day", "clip-2.mov", "clip-10.mov", "notes clip.mov"]);
  expect(names("", "size")).toEqual(["day", "clip-2.mov", "clip-10.mov", "notes clip.mov"]);
  expect(names("CLIP 1", "name")).toEqual(["clip-10.mov"]);
});

test("Shift chooses all between, in the order that is shown, in both directions", () => {
  const shown = orderedEntries(entries, "", "name");
  expect(range(shown, "day", "clip-10.mov")).toEqual(["day", "clip-2.mov", "clip-10.mov"]);
  expect(range(shown, "clip-10.mov", "clip-2.mov")).toEqual(["clip-2.mov", "clip-10.mov"]);
  expect(range(shown, "gone", "clip-2.mov")).toEqual(["clip-2.mov"]);
});
