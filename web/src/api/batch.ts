/** What events change in what is loaded: gathered for a moment, then taken in at once. */
import type { Change, Progress, QueuePart, Run, Sheet, SourceRow } from "./client";

/** Changes of a moment; of each thing the last one counts. */
export interface Batch {
  runs: Map<string, Run>;
  progress: Map<string, Progress>;
  sources: Map<string, SourceRow>;
}

export function emptyBatch(): Batch {
  return { runs: new Map(), progress: new Map(), sources: new Map() };
}

/** Takes a change into the batch; answers whether it is one of those that are gathered. */
export function gather(batch: Batch, change: Change): boolean {
  switch (change.kind) {
    case "runs":
      for (const run of change.runs) {
        batch.runs.set(run.id, run);
        // What a run is like now is later than how far it was.
        batch.progress.delete(run.id);
      }
      return true;
    case "progress":
      batch.progress.set(change.id, change.progress);
      return true;
    case "source":
      batch.sources.set(change.source.id, change.source);
      return true;
    case "sheet":
    case "watch":
    case "viewing":
    case "proof":
    case "house":
    case "gap":
      return false;
  }
}

export function isEmpty(batch: Batch): boolean {
  return batch.runs.size === 0 && batch.progress.size === 0 && batch.sources.size === 0;
}

/** Where the rows, the columns and the runs of a sheet are. */
interface Places {
  rows: Map<string, number>;
  columns: Map<string, number>;
  /** Places of cells by the runs that were last in them. */
  runs: Map<string, number>;
}

const known = new WeakMap<Sheet["cells"], Places>();

function placesOf(sheet: Sheet): Places {
  const places = known.get(sheet.cells);
  if (places) return places;
  const runs = new Map<string, number>();
  sheet.cells.forEach((cell, place) => {
    if (cell.run) runs.set(cell.run.id, place);
  });
  const made = {
    rows: new Map(sheet.sources.map((source, row) => [source.id, row])),
    columns: new Map(sheet.deliverables.map((column, place) => [column.id, place])),
    runs,
  };
  known.set(sheet.cells, made);
  return made;
}

/** The row as it is now, which keeps what it has from its place in the sheet. */
function sourceInRow(row: SourceRow, source: SourceRow): SourceRow {
  const { folder, taken = null, taken_size = null, overrides } = row;
  return { ...source, folder, taken, taken_size, ...(overrides && { overrides }) };
}

/** A list with some of its items changed. */
function withChanged<T>(list: T[], changed: Map<number, T>): T[] {
  if (changed.size === 0) return list;
  const next = list.slice();
  for (const [place, item] of changed) next[place] = item;
  return next;
}

/** The sheet with all that has changed; the same sheet where nothing of it has. */
export function sheetWith(sheet: Sheet, batch: Batch): Sheet {
  const places = placesOf(sheet);
  const cells = new Map<number, Sheet["cells"][number]>();
  const cellAt = (place: number) => cells.get(place) ?? sheet.cells[place];
  for (const run of batch.runs.values()) {
    if (run.sheet !== sheet.id || run.deliverable == null) continue;
    const [row, column] = [places.rows.get(run.source), places.columns.get(run.deliverable)];
    if (row === undefined || column === undefined) continue;
    const place = row * sheet.deliverables.length + column;
    const cell = cellAt(place);
    if (!cell) continue;
    // A run that is new has the settings of now.
    cells.set(place, { ...cell, run, is_out_of_date: cell.is_out_of_date === true && cell.run?.id === run.id });
    places.runs.set(run.id, place);
  }
  for (const [id, progress] of batch.progress) {
    const place = places.runs.get(id);
    const cell = place === undefined ? undefined : cellAt(place);
    if (place !== undefined && cell?.run?.id === id) cells.set(place, { ...cell, run: { ...cell.run, progress } });
  }
  const sources = new Map<number, SourceRow>();
  for (const source of batch.sources.values()) {
    const row = places.rows.get(source.id);
    const here = row === undefined ? undefined : sheet.sources[row];
    if (row !== undefined && here) sources.set(row, sourceInRow(here, source));
  }
  if (cells.size === 0 && sources.size === 0) return sheet;
  const next = { ...sheet, cells: withChanged(sheet.cells, cells), sources: withChanged(sheet.sources, sources) };
  known.set(next.cells, places);
  return next;
}

/** A part of the queue with all that has changed in it. */
export function queueWith(part: QueuePart, batch: Batch): QueuePart {
  const items = new Map<number, QueuePart["items"][number]>();
  part.items.forEach((item, place) => {
    const [run, progress] = [batch.runs.get(item.run.id), batch.progress.get(item.run.id)];
    if (run || progress) items.set(place, { ...item, run: { ...(run ?? item.run), ...(progress && { progress }) } });
  });
  return items.size > 0 ? { ...part, items: withChanged(part.items, items) } : part;
}
