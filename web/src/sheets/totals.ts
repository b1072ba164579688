/** Sums over the cells of a sheet. */
import type { Cell, Sheet } from "../api/client";

export interface Totals {
  /** Cells that are wanted and can be made. */
  wanted: number;
  done: number;
  working: number;
  waiting: number;
  held: number;
  failed: number;
  /** Bytes of the sources of wanted cells, each counted once for every file made of it. */
  before: number;
  /** Bytes made, and expected for the rest. */
  after: number;
  /** Seconds of work left, where runs tell. */
  left: number;
  /** Part of the whole that is done, 0 to 1. */
  fraction: number;
}

const NOTHING: Totals = { wanted: 0, done: 0, working: 0, waiting: 0, held: 0, failed: 0, before: 0, after: 0, left: 0, fraction: 0 };

/** Whether a file is or will be made in the cell. */
export function isWanted(cell: Cell): boolean {
  return cell.enabled && cell.refusal == null;
}

/** What the cell weighs: the truth where it is known, the forecast before. */
export function weight(cell: Cell): number {
  if (cell.run?.state === "done" && cell.run.size != null) return cell.run.size;
  return cell.forecast ?? 0;
}

function add(totals: Totals, cell: Cell, sourceSize: number): Totals {
  if (!isWanted(cell)) return totals;
  const state = cell.run?.state;
  const fraction = state === "done" ? 1 : (cell.run?.progress?.fraction ?? 0);
  return {
    wanted: totals.wanted + 1,
    done: totals.done + (state === "done" ? 1 : 0),
    working: totals.working + (state === "running" || state === "checking" ? 1 : 0),
    waiting: totals.waiting + (state === "waiting" ? 1 : 0),
    held: totals.held + (state === "paused" ? 1 : 0),
    failed: totals.failed + (state === "failed" ? 1 : 0),
    before: totals.before + sourceSize,
    after: totals.after + weight(cell),
    left: Math.max(totals.left, state === "running" ? (cell.run?.progress?.remaining ?? 0) : 0),
    fraction: totals.fraction + (state === "running" || state === "done" ? fraction : 0),
  };
}

/** Sums over the cells for which `which` holds. */
export function totals(sheet: Sheet, which: (cell: Cell) => boolean = () => true): Totals {
  const sizes = new Map(sheet.sources.map((source) => [source.id, source.size ?? 0]));
  const sum = sheet.cells.filter(which).reduce((sum, cell) => add(sum, cell, sizes.get(cell.source) ?? 0), NOTHING);
  return { ...sum, fraction: sum.wanted > 0 ? sum.fraction / sum.wanted : 0 };
}

/** Cells that “Run” would queue: wanted, not made, not under way. */
export function runnable(sheet: Sheet): Cell[] {
  return sheet.cells.filter((cell) => {
    const state = cell.run?.state;
    return isWanted(cell) && cell.forecast != null && (state === undefined || state === "failed" || state === "cancelled");
  });
}
