/** Which cells of a sheet are chosen: a cursor, and the cells that actions go to. */
import type { Cell, CellKey, Sheet } from "../api/client";

export interface Selection {
  /** Where the arrows start from. */
  cursor: CellKey;
  /** Where the rectangle began that Shift draws. */
  anchor: CellKey;
  cells: ReadonlySet<string>;
  /** The row or column whose head was chosen, and with it all its cells. */
  head?: { row: string } | { column: string };
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
  return cells && { ...cells, head: { row: source } };
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
  | { kind: "column"; deliverable: string }
  | { kind: "several" };

export function shapeOf(selection: Selection | null, cells: Cell[]): Shape | null {
  const first = cells[0];
  if (!selection || !first) return null;
  if (selection.head)
    return "row" in selection.head
      ? { kind: "row", source: selection.head.row }
      : { kind: "column", deliverable: selection.head.column };
  return cells.length === 1 ? { kind: "cell", cell: first } : { kind: "several" };
}
