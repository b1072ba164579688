/** Own settings of cells: JSON merge patches (RFC 7386) on the preset of their column. */
import type { Preset } from "../api/client";

export type Patch = Record<string, unknown>;

function isObject(value: unknown): value is Record<string, unknown> {
  return typeof value === "object" && value !== null && !Array.isArray(value);
}

/** The patch that makes `to` of `from`. */
export function patchBetween(from: unknown, to: unknown): unknown {
  if (!isObject(from) || !isObject(to)) return to;
  const patch: Patch = {};
  for (const [name, value] of Object.entries(to)) {
    if (JSON.stringify(from[name]) !== JSON.stringify(value)) patch[name] = patchBetween(from[name], value);
  }
  for (const name of Object.keys(from)) {
    if (!(name in to)) patch[name] = null;
  }
  return patch;
}

/** The two patches as one; where both say something, the later holds. */
export function patchAfter(first: Patch, second: Patch): Patch {
  const both: Patch = { ...first };
  for (const [name, value] of Object.entries(second)) {
    const before = both[name];
    // A rule that takes another form replaces the old one whole.
    const isOtherRule = isObject(before) && isObject(value) && ["rule", "mode"].some((tag) => value[tag] !== undefined && value[tag] !== before[tag]);
    both[name] = isObject(before) && isObject(value) && !isOtherRule ? patchAfter(before, value) : value;
  }
  return both;
}

/** The patch that puts another preset in the place of a column's own. */
export function patchToPreset(column: Preset, wanted: Preset): Patch {
  return patchBetween(column, { ...wanted, name_pattern: column.name_pattern }) as Patch;
}

/** A patch without what another one sets. */
export function patchWithout(patch: Patch, other: unknown): Patch {
  if (!isObject(other)) return patch;
  const rest: Patch = {};
  for (const [name, value] of Object.entries(patch)) {
    const taken = other[name];
    if (taken === undefined) rest[name] = value;
    else if (isObject(value) && isObject(taken)) {
      const inner = patchWithout(value, taken);
      if (Object.keys(inner).length > 0) rest[name] = inner;
    }
  }
  return rest;
}
