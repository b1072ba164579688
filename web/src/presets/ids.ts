/** Ids of presets. */
import type { PresetItem } from "../api/client";

/** An id made from a name: lower-case letters, figures and hyphens, 64 at most. */
export function idFrom(name: string): string {
  return name
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .slice(0, 64)
    .replace(/^-|-$/g, "");
}

/** The id itself, or the first like it that no preset has. */
export function freeId(id: string, presets: PresetItem[]): string {
  const taken = new Set(presets.map((item) => item.preset.id));
  for (let number = 1; ; number += 1) {
    const ending = number === 1 ? "" : `-${String(number)}`;
    const wanted = `${id.slice(0, 64 - ending.length)}${ending}`;
    if (!taken.has(wanted)) return wanted;
  }
}
