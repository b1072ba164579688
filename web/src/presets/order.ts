/** The order of the presets: as they are given, by role, or by what a heading says. */
import type { PresetItem } from "../api/client";

export type Heading = "name" | "container" | "size";
export type Order = { by: Heading; direction: "asc" | "desc" } | null;

/** What a click on a heading makes of the order: upwards, downwards, and as given again. */
export function ordered(order: Order, by: Heading): Order {
  if (order?.by !== by) return { by, direction: "asc" };
  return order.direction === "asc" ? { by, direction: "desc" } : null;
}

const COMPARE: Record<Heading, (one: PresetItem, other: PresetItem) => number> = {
  name: (one, other) => one.preset.name.localeCompare(other.preset.name, "en"),
  container: (one, other) => one.preset.container.localeCompare(other.preset.container, "en"),
  size: (one, other) => (one.bytes_per_minute ?? 0) - (other.bytes_per_minute ?? 0),
};

export function inOrder(presets: PresetItem[], order: Order): PresetItem[] {
  if (!order) return presets;
  const compare = COMPARE[order.by];
  const turn = order.direction === "asc" ? 1 : -1;
  return presets.toSorted((one, other) => turn * compare(one, other));
}
