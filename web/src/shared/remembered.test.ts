import { beforeEach, expect, test, vi } from "vitest";
import { remember, remembered } from "./remembered";

const store = new Map<string, string>();

beforeEach(() => {
  store.clear();
  vi.stubGlobal("localStorage", {
    getItem: (name: string) => store.get(name) ?? null,
    setItem: (name: string, value: string) => store.set(name, value),
  });
});

test("what was told last comes back, with what is new since", () => {
  remember("place", { storage: "s", folder: "made" });
  expect(remembered("place", { storage: null, folder: "", clash: "number" })).toEqual({
    storage: "s",
    folder: "made",
    clash: "number",
  });
  expect(remembered("other", { order: "name" })).toEqual({ order: "name" });
});

test.each(["not JSON", "null", "3", '"text"'])("%s that somebody has left there does no harm", (stored) => {
  store.set("beryl.place", stored);
  expect(remembered("place", { folder: "" })).toEqual({ folder: "" });
});
