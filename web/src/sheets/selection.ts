/** Which cells of a sheet are chosen: a cursor, and the cells that actions go to. */
import type { Cell, CellKey, Sheet } from "../api/client";

export interface Selection {
  /** Where the arrows start from. */
  cursor: CellKey;
  /** Where the rectangle began that Shift draws. */
  anchor: CellKey;
  cells: ReadonlySet<string>;
  /** The rows or the column whose heads were chosen, and with them all their cells. */
  head?: { rows: string[] } | { column: string };
}

export function idOf({ source, deliverable }: CellKey): string {
  return `${source} ${deliverable}`;
}

function keyOf(cell: CellKey): CellKey {
  return { source: cell.source, deliverable: cell.deliverable };
}

export function only(cell: CellKey): Selection {
  const key = keyOf(cell);
  return { cursor: key, anchor: key, cells: new Set([idOf(key)]) };
}

/** One cell more, or less where it was chosen; the last one stays. */
export function toggled(selection: Selection | null, cell: CellKey): Selection {
  if (!selection) return only(cell);
  const cells = new Set(selection.cells);
  if (cells.size > 1 || !cells.has(idOf(cell))) {
    if (!cells.delete(idOf(cell))) cells.add(idOf(cell));
  }
  return { cursor: keyOf(cell), anchor: keyOf(cell), cells };
}

function place(sheet: Sheet, cell: CellKey): [number, number] {
  return [
    sheet.sources.findIndex((source) => source.id === cell.source),
    sheet.deliverables.findIndex((column) => column.id === cell.deliverable),
  ];
}

function rectangle(sheet: Sheet, one: CellKey, other: CellKey): Set<string> {
  const [[row, column], [otherRow, otherColumn]] = [place(sheet, one), place(sheet, other)];
  const rows = sheet.sources.slice(Math.min(row, otherRow), Math.max(row, otherRow) + 1);
  const columns = sheet.deliverables.slice(Math.min(column, otherColumn), Math.max(column, otherColumn) + 1);
  return new Set(
    rows.flatMap((source) => columns.map((deliverable) => idOf({ source: source.id, deliverable: deliverable.id }))),
  );
}

/** All cells between the anchor and `cell`. */
export function extended(sheet: Sheet, selection: Selection | null, cell: CellKey): Selection {
  if (!selection) return only(cell);
  return { cursor: keyOf(cell), anchor: selection.anchor, cells: rectangle(sheet, selection.anchor, cell) };
}

/** The selection after a step with the arrows. */
export function moved(
  sheet: Sheet,
  selection: Selection | null,
  rows: number,
  columns: number,
  extend: boolean,
): Selection | null {
  const [row, column] = selection ? place(sheet, selection.cursor) : [0, 0];
  const within = (value: number, count: number) => Math.min(Math.max(value, 0), count - 1);
  const source = sheet.sources[within(selection ? row + rows : row, sheet.sources.length)];
  const deliverable = sheet.deliverables[within(selection ? column + columns : column, sheet.deliverables.length)];
  if (!source || !deliverable) return null;
  const cell = { source: source.id, deliverable: deliverable.id };
  if (extend && columns === 0 && selection?.head && "rows" in selection.head)
    return extendedRows(sheet, selection, source.id);
  return extend ? extended(sheet, selection, cell) : only(cell);
}

function spanning(sheet: Sheet, sources: string[], deliverables: string[]): Selection | null {
  const [source, deliverable] = [sources[0], deliverables[0]];
  const [lastSource, lastDeliverable] = [sources.at(-1), deliverables.at(-1)];
  if (!source || !deliverable || !lastSource || !lastDeliverable) return null;
  const cursor = { source, deliverable };
  return {
    cursor,
    anchor: cursor,
    cells: rectangle(sheet, cursor, { source: lastSource, deliverable: lastDeliverable }),
  };
}

export function wholeRow(sheet: Sheet, source: string): Selection | null {
  const cells = spanning(
    sheet,
    [source],
    sheet.deliverables.map((column) => column.id),
  );
  return cells && { ...cells, head: { rows: [source] } };
}

/** Rows as a whole, whatever lies between them. */
export function wholeRows(sheet: Sheet, sources: readonly string[]): Selection | null {
  const meant = new Set(sources);
  const rows = sheet.sources.filter((source) => meant.has(source.id)).map((source) => source.id);
  const [first, column] = [rows[0], sheet.deliverables[0]];
  if (!first || !column) return null;
  const cursor = { source: first, deliverable: column.id };
  const cells = new Set(
    rows.flatMap((source) => sheet.deliverables.map((deliverable) => idOf({ source, deliverable: deliverable.id }))),
  );
  return { cursor, anchor: cursor, cells, head: { rows } };
}

/** The rows from the anchor to this one, as a whole. */
export function extendedRows(sheet: Sheet, selection: Selection | null, source: string): Selection | null {
  if (!selection) return wholeRow(sheet, source);
  const place = (id: string) => sheet.sources.findIndex((row) => row.id === id);
  const [from, to] = [place(selection.anchor.source), place(source)];
  const rows = sheet.sources.slice(Math.min(from, to), Math.max(from, to) + 1).map((row) => row.id);
  const all = wholeRows(sheet, rows);
  const { deliverable } = selection.cursor;
  return all && { ...all, anchor: selection.anchor, cursor: { source, deliverable } };
}

/** One row more, or less where it was chosen. */
export function toggledRow(sheet: Sheet, selection: Selection | null, source: string): Selection | null {
  const rows = selection?.head && "rows" in selection.head ? selection.head.rows : [];
  const isChosen = rows.includes(source);
  const next = isChosen ? rows.filter((row) => row !== source) : [...rows, source];
  const all = wholeRows(sheet, next.length > 0 ? next : [source]);
  const cursor = { source, deliverable: all?.cursor.deliverable ?? "" };
  return all && (isChosen ? all : { ...all, cursor, anchor: cursor });
}

export function wholeColumn(sheet: Sheet, deliverable: string): Selection | null {
  const cells = spanning(
    sheet,
    sheet.sources.map((source) => source.id),
    [deliverable],
  );
  return cells && { ...cells, head: { column: deliverable } };
}

export function everything(sheet: Sheet): Selection | null {
  return spanning(
    sheet,
    sheet.sources.map((source) => source.id),
    sheet.deliverables.map((column) => column.id),
  );
}

/** The cells for which `which` holds, or nothing where there is none. */
export function those(sheet: Sheet, which: (cell: Cell) => boolean): Selection | null {
  const found = sheet.cells.filter(which);
  const first = found[0];
  return first ? { ...only(first), cells: new Set(found.map(idOf)) } : null;
}

export function chosenCells(sheet: Sheet, selection: Selection | null): Cell[] {
  return selection ? sheet.cells.filter((cell) => selection.cells.has(idOf(cell))) : [];
}

/** What the chosen cells are together. */
export type Shape =
  | { kind: "cell"; cell: Cell }
  | { kind: "row"; source: string }
  | { kind: "rows"; sources: string[] }
  | { kind: "column"; deliverable: string }
  | { kind: "several" };

export function shapeOf(selection: Selection | null, cells: Cell[]): Shape | null {
  const first = cells[0];
  if (!selection || !first) return null;
  if (selection.head) {
    if ("column" in selection.head) return { kind: "column", deliverable: selection.head.column };
    const [source, ...others] = selection.head.rows;
    if (source !== undefined)
      return others.length === 0 ? { kind: "row", source } : { kind: "rows", sources: selection.head.rows };
  }
  return cells.length === 1 ? { kind: "cell", cell: first } : { kind: "several" };
}
