/** Sums over the cells of a sheet. */
import type { Cell, Sheet, SourceRow } from "../api/client";
import { isOpen } from "../shared/words";

export interface Totals {
  /** Cells that are wanted and can be made. */
  wanted: number;
  done: number;
  working: number;
  waiting: number;
  held: number;
  failed: number;
  /** Files that wait for a decision. */
  withheld: number;
  /** Files that were made with other settings than are wanted now. */
  outOfDate: number;
  /** Bytes of the sources of wanted cells, each source counted once. */
  before: number;
  /** Bytes made, and expected for the rest. */
  after: number;
  /** Bytes that were expected for all. */
  expected: number;
  /** Seconds of work left, where runs tell. */
  left: number;
  /** Part of the whole that is done, 0 to 1. */
  fraction: number;
}

/** Whether a file is or will be made in the cell. */
export function isWanted(cell: Cell): boolean {
  return cell.enabled && cell.refusal == null;
}

/** Whether a file is there that was made with other settings than are wanted now. */
export function isOutOfDate(cell: Cell): boolean {
  return cell.is_out_of_date === true && cell.run?.state === "done";
}

/** What is taken of a source weighs: a part of it is compared with what is made of that part. */
export function weightTaken(source: SourceRow): number {
  return source.taken_size ?? source.size ?? 0;
}

/** What the cell weighs: the truth where it is known, the forecast before. */
export function weight(cell: Cell): number {
  if (isOutOfDate(cell) && cell.forecast != null) return cell.forecast;
  if ((cell.run?.state === "done" || cell.run?.state === "withheld") && cell.run.size != null) return cell.run.size;
  return cell.forecast ?? 0;
}

function nothing(): Totals {
  return {
    wanted: 0,
    done: 0,
    working: 0,
    waiting: 0,
    held: 0,
    failed: 0,
    withheld: 0,
    outOfDate: 0,
    before: 0,
    after: 0,
    expected: 0,
    left: 0,
    fraction: 0,
  };
}

/** Adds a cell; the size of its source counts where it is the first of that source. */
function add(totals: Totals, cell: Cell, sourceSize: number): void {
  const state = cell.run?.state;
  totals.wanted += 1;
  if (isOutOfDate(cell)) totals.outOfDate += 1;
  else if (state === "done") totals.done += 1;
  if (state === "running" || state === "checking") totals.working += 1;
  if (state === "waiting") totals.waiting += 1;
  if (state === "paused") totals.held += 1;
  if (state === "failed") totals.failed += 1;
  if (state === "withheld") totals.withheld += 1;
  totals.before += sourceSize;
  totals.after += weight(cell);
  totals.expected += cell.forecast ?? 0;
  if (state === "running") totals.left = Math.max(totals.left, cell.run?.progress?.remaining ?? 0);
  if (state === "done" && !cell.is_out_of_date) totals.fraction += 1;
  else if (state === "running" || state === "checking") totals.fraction += cell.run?.progress?.fraction ?? 0;
}

function finished(totals: Totals): Totals {
  return { ...totals, fraction: totals.wanted > 0 ? totals.fraction / totals.wanted : 0 };
}

/** Sums over some cells of a sheet. */
export function totals(sheet: Sheet, cells: Cell[]): Totals {
  const sizes = new Map(sheet.sources.map((source) => [source.id, weightTaken(source)]));
  const sum = nothing();
  const seen = new Set<string>();
  for (const cell of cells.filter(isWanted)) {
    add(sum, cell, seen.has(cell.source) ? 0 : (sizes.get(cell.source) ?? 0));
    seen.add(cell.source);
  }
  return finished(sum);
}

export interface Sums {
  rows: Totals[];
  columns: Totals[];
  all: Totals;
  /** Cells that “Run” would queue. */
  ready: Cell[];
  /** Cells whose runs are under way. */
  open: Cell[];
}

const known = new WeakMap<Sheet, Sums>();

/** Sums of every row, of every column and of all, in one walk over the cells; once for each state of a sheet. */
export function sums(sheet: Sheet): Sums {
  const earlier = known.get(sheet);
  if (earlier) return earlier;
  const rows = sheet.sources.map(nothing);
  const columns = sheet.deliverables.map(nothing);
  const all = nothing();
  const ready: Cell[] = [];
  const open: Cell[] = [];
  sheet.cells.forEach((cell, place) => {
    if (isOpen(cell.run)) open.push(cell);
    if (!isWanted(cell)) return;
    if (isRunnable(cell)) ready.push(cell);
    const row = rows[Math.floor(place / columns.length)];
    const column = columns[place % columns.length];
    const source = sheet.sources[Math.floor(place / columns.length)];
    const size = source ? weightTaken(source) : 0;
    const first = row?.wanted === 0 ? size : 0;
    add(all, cell, first);
    if (row) add(row, cell, first);
    if (column) add(column, cell, size);
  });
  const made = { rows: rows.map(finished), columns: columns.map(finished), all: finished(all), ready, open };
  known.set(sheet, made);
  return made;
}

/** Whether “Run” would queue the cell: wanted, not made as it is set now, not under way. */
export function isRunnable(cell: Cell): boolean {
  const state = cell.run?.state;
  return (
    isWanted(cell) &&
    cell.forecast != null &&
    (state === undefined || state === "failed" || state === "cancelled" || isOutOfDate(cell))
  );
}
