/** Crops as the page handles them: rules, rectangles, and what a drag makes of one. */
import type { Crop } from "../api/client";
import type { Patch } from "../sheets/overrides";
import { clamp } from "./position";

export interface Rectangle {
  x: number;
  y: number;
  width: number;
  height: number;
}

export type CropRule =
  | { rule: "never" }
  | { rule: "bars" }
  | { rule: "shape"; shape: string }
  | { rule: "by_hand"; left: number; top: number; right: number; bottom: number };

/** Shapes that are asked for by name, as width over height. */
export const SHAPES: [string, string][] = [
  ["16/9", "1.78 (16:9)"],
  ["4/3", "1.33 (4:3)"],
  ["37/20", "1.85"],
  ["2/1", "2.00"],
  ["239/100", "2.39"],
  ["1/1", "1.00, square"],
  ["9/16", "0.56 (9:16)"],
];

/** The rule that is set for all outputs of a source; nothing is, where each preset has its own way. */
export function ruleOf(overrides: Patch): CropRule | null {
  return (overrides as { picture?: { crop?: CropRule } }).picture?.crop ?? null;
}

/** The edges of a rectangle that a drag moves. */
export type Edges = { x: -1 | 0 | 1; y: -1 | 0 | 1 };

/** Columns and lines that must stay. */
const SMALLEST = 16;

/** A rectangle whose edges (or, where none is named, all of it) were moved, kept inside and even. */
export function dragged(
  from: Rectangle,
  edges: Edges,
  across: number,
  down: number,
  width: number,
  height: number,
): Rectangle {
  const even = (value: number) => Math.round(value / 2) * 2;
  if (edges.x === 0 && edges.y === 0) {
    return {
      ...from,
      x: even(clamp(from.x + across, 0, width - from.width)),
      y: even(clamp(from.y + down, 0, height - from.height)),
    };
  }
  let [left, right, top, bottom] = [from.x, from.x + from.width, from.y, from.y + from.height];
  if (edges.x < 0) left = even(clamp(left + across, 0, right - SMALLEST));
  if (edges.x > 0) right = even(clamp(right + across, left + SMALLEST, width));
  if (edges.y < 0) top = even(clamp(top + down, 0, bottom - SMALLEST));
  if (edges.y > 0) bottom = even(clamp(bottom + down, top + SMALLEST, height));
  return { x: left, y: top, width: right - left, height: bottom - top };
}

/** A rectangle as so many columns and lines to be cut off. */
export function byHand(part: Rectangle, crop: Crop): CropRule & { rule: "by_hand" } {
  return {
    rule: "by_hand",
    left: part.x,
    top: part.y,
    right: crop.width - part.x - part.width,
    bottom: crop.height - part.y - part.height,
  };
}
