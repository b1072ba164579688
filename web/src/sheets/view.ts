/** How a sheet is looked at: which rows are shown, in which order, and which columns. Nothing of it changes the sheet. */
import type { Cell, Deliverable, Sheet, SourceRow } from "../api/client";
import { isOpen } from "../shared/words";
import { isOutOfDate, weight } from "./totals";

/** What the outputs of a row are like, for choosing rows by it. */
export const STATES = ["to make", "open", "failed", "withheld", "out of date", "made"] as const;
export type RowState = (typeof STATES)[number];

export const ORDERS = ["as added", "name", "folder", "length", "weight", "weight of outputs"] as const;
export type Order = (typeof ORDERS)[number];

export interface View {
  /** Words that a row has in its name, its folder, its facts or its findings, all of them. */
  search: string;
  state: RowState | "";
  folder: string | null;
  /** Sources with a finding that something follows from; nothing where it does not matter. */
  suggested: readonly string[] | null;
  order: Order;
  /** Ids of columns in their order; those that are not named come behind. */
  columns: string[];
  hidden: string[];
  /** Widths of columns in pixels, where they are not the usual one. */
  widths: Record<string, number>;
}

export const WHOLE: View = {
  search: "",
  state: "",
  folder: null,
  suggested: null,
  order: "as added",
  columns: [],
  hidden: [],
  widths: {},
};

/** Whether rows are left out. */
export function isNarrowed(view: View): boolean {
  return view.search.trim() !== "" || view.state !== "" || view.folder !== null || view.suggested !== null;
}

function isInState(cell: Cell, state: RowState): boolean {
  switch (state) {
    case "to make":
      return cell.enabled && cell.refusal == null && cell.run == null;
    case "open":
      return isOpen(cell.run);
    case "failed":
      return cell.run?.state === "failed";
    case "withheld":
      return cell.run?.state === "withheld";
    case "out of date":
      return isOutOfDate(cell);
    case "made":
      return cell.run?.state === "done";
  }
}

function wordsOf(source: SourceRow): string {
  return [source.folder, source.name, source.summary, ...source.findings, source.problem?.why].join("\n").toLowerCase();
}

/** Names with numbers in them in the order in which people count. */
const byName = new Intl.Collator(undefined, { numeric: true, sensitivity: "base" });

type Row = [SourceRow, Cell[]];

function compare(order: Order): ((one: Row, other: Row) => number) | null {
  const name = ([source]: Row) => source.name;
  const outputs = ([, cells]: Row) => cells.reduce((sum, cell) => sum + weight(cell), 0);
  switch (order) {
    case "as added":
      return null;
    case "name":
      return (one, other) => byName.compare(name(one), name(other));
    case "folder":
      return (one, other) => byName.compare(one[0].folder, other[0].folder) || byName.compare(name(one), name(other));
    case "length":
      return (one, other) => (other[0].seconds ?? 0) - (one[0].seconds ?? 0);
    case "weight":
      return (one, other) => (other[0].size ?? 0) - (one[0].size ?? 0);
    case "weight of outputs":
      return (one, other) => outputs(other) - outputs(one);
  }
}

/** The columns that are shown, in their order, by their places in the sheet. */
function shownColumns(deliverables: Deliverable[], view: View): number[] {
  const rank = (column: Deliverable) => {
    const place = view.columns.indexOf(column.id);
    return place < 0 ? view.columns.length : place;
  };
  return deliverables
    .map((column, place) => ({ column, place }))
    .filter(({ column }) => !view.hidden.includes(column.id))
    .sort((one, other) => rank(one.column) - rank(other.column) || one.place - other.place)
    .map(({ place }) => place);
}

/** The sheet as it is looked at; the same one where all of it is shown as it is. */
export function seen(sheet: Sheet, view: View): Sheet {
  const width = sheet.deliverables.length;
  const columns = shownColumns(sheet.deliverables, view);
  const isWhole = columns.length === width && columns.every((place, number) => place === number);
  const before = compare(view.order);
  if (isWhole && !isNarrowed(view) && before === null) return sheet;
  const words = view.search.toLowerCase().split(/\s+/).filter(Boolean);
  const suggested = view.suggested && new Set(view.suggested);
  const state = view.state;
  const rows = sheet.sources
    .map((source, place): Row => [source, sheet.cells.slice(place * width, (place + 1) * width)])
    .filter(
      ([source, cells]) =>
        words.every((word) => wordsOf(source).includes(word)) &&
        (state === "" || cells.some((cell) => isInState(cell, state))) &&
        (view.folder === null || source.folder === view.folder) &&
        (suggested === null || suggested.has(source.id)),
    );
  if (before) rows.sort(before);
  return {
    ...sheet,
    sources: rows.map(([source]) => source),
    deliverables: columns.flatMap((place) => sheet.deliverables[place] ?? []),
    cells: rows.flatMap(([, cells]) => columns.flatMap((place) => cells[place] ?? [])),
  };
}

/** The folders of a sheet's sources, where there is more than one. */
export function foldersOf(sources: SourceRow[]): string[] {
  const folders = [...new Set(sources.map((source) => source.folder))].sort((one, other) => byName.compare(one, other));
  return folders.length > 1 ? folders : [];
}

/** A column one place further to the left or to the right. */
export function movedColumn(deliverables: Deliverable[], view: View, id: string, by: number): View {
  const order = orderedColumns(deliverables, view).map(({ id }) => id);
  const from = order.indexOf(id);
  const to = Math.min(Math.max(from + by, 0), order.length - 1);
  if (from < 0 || from === to) return view;
  order.splice(to, 0, ...order.splice(from, 1));
  return { ...view, columns: order };
}

/** All columns, the hidden ones too, in their order. */
export function orderedColumns(deliverables: Deliverable[], view: View): Deliverable[] {
  return shownColumns(deliverables, { ...view, hidden: [] }).flatMap((place) => deliverables[place] ?? []);
}
