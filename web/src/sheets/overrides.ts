/** Own settings of cells and rows: patches on the preset of their column. */
import type { Patch, Preset } from "../api/client";

export type { Patch };

type Fields = Record<string, unknown>;

function isObject(value: unknown): value is Fields {
  return typeof value === "object" && value !== null && !Array.isArray(value);
}

/** The patch that makes `to` of `from`. */
export function patchBetween(from: unknown, to: unknown): unknown {
  if (!isObject(from) || !isObject(to)) return to;
  const patch: Fields = {};
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
  return fieldsAfter(first, second);
}

function fieldsAfter(first: Fields, second: Fields): Fields {
  const both: Fields = { ...first };
  for (const [name, value] of Object.entries(second)) {
    const before = both[name];
    // A rule that takes another form replaces the old one whole.
    const isOtherRule =
      isObject(before) &&
      isObject(value) &&
      ["rule", "mode"].some((tag) => value[tag] !== undefined && value[tag] !== before[tag]);
    both[name] = isObject(before) && isObject(value) && !isOtherRule ? fieldsAfter(before, value) : value;
  }
  return both;
}

/** A preset as a patch changes it. */
export function presetWith(preset: Preset, patch: Patch): Preset {
  return fieldsAfter(preset, patch) as Preset;
}

/** The patch that puts another preset in the place of a column's own. */
export function patchToPreset(column: Preset, wanted: Preset): Patch {
  return patchBetween(column, { ...wanted, name_pattern: column.name_pattern }) as Patch;
}

/** A patch without what another one sets. */
export function patchWithout(patch: Patch, other: Patch): Patch {
  return fieldsWithout(patch, other);
}

function fieldsWithout(fields: Fields, other: Fields): Fields {
  const rest: Fields = {};
  for (const [name, value] of Object.entries(fields)) {
    const taken = other[name];
    if (taken === undefined) rest[name] = value;
    else if (isObject(value) && isObject(taken)) {
      const inner = fieldsWithout(value, taken);
      if (Object.keys(inner).length > 0) rest[name] = inner;
    }
  }
  return rest;
}
