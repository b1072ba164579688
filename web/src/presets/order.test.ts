import { expect, test } from "vitest";
import type { PresetItem } from "../api/client";
import { inOrder, type Order, ordered } from "./order";

const item = (name: string, container: string, bytes_per_minute: number) =>
  ({ preset: { name, container }, bytes_per_minute }) as PresetItem;
const presets = [item("Web", "mp4", 60), item("Archive master", "mov", 2000), item("Proxy", "mov", 30)];
const names = (order: Order) => inOrder(presets, order).map((one) => one.preset.name);

test("a heading sorts upwards, then downwards, then as it was", () => {
  let order: Order = null;
  const seen = [0, 1, 2].map(() => {
    order = ordered(order, "size");
    return names(order);
  });
  expect(seen).toEqual([
    ["Proxy", "Web", "Archive master"],
    ["Archive master", "Web", "Proxy"],
    ["Web", "Archive master", "Proxy"],
  ]);
});

test("another heading begins upwards, and what is alike keeps its order", () => {
  const order = ordered({ by: "size", direction: "desc" }, "container");
  expect(order).toEqual({ by: "container", direction: "asc" });
  expect(names(order)).toEqual(["Archive master", "Proxy", "Web"]);
  expect(names({ by: "name", direction: "desc" })).toEqual(["Web", "Proxy", "Archive master"]);
});
