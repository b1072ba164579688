/** Follows the server's events and keeps what is loaded up to date. */
import type { QueryClient } from "@tanstack/react-query";
import { connection } from "./connection";
import type { Change, ChangedColumn, Progress, Queue, Run, Sheet, SourceRow, StreamEvent } from "./client";

export const keys = {
  sheets: ["sheets"] as const,
  sheet: (id: string) => ["sheet", id] as const,
  queue: ["queue"] as const,
  watch: ["watch"] as const,
  watchFiles: (id: string, state: string) => ["watch", id, state] as const,
  presets: ["presets"] as const,
  storages: ["storages"] as const,
  aids: ["aids"] as const,
  catalogue: ["catalogue"] as const,
  viewing: (id: string) => ["viewing", id] as const,
  bench: (sheet: string, source: string) => ["bench", sheet, source] as const,
  proofs: (source: string, deliverable: string) => ["proofs", source, deliverable] as const,
  proofCurve: (id: string) => ["proof", id] as const,
  curves: (source: string) => ["curves", source] as const,
  output: (source: string, deliverable: string) => ["output", source, deliverable] as const,
};

/** The sheet with one run changed; the same sheet where the run is not in it. */
function withRun(sheet: Sheet, run: Run): Sheet {
  if (run.sheet !== sheet.id) return sheet;
  const cells = sheet.cells.map((cell) => {
    if (cell.source !== run.source || cell.deliverable !== run.deliverable) return cell;
    // A run that is new has the settings of now.
    return { ...cell, run, is_out_of_date: cell.is_out_of_date === true && cell.run?.id === run.id };
  });
  return { ...sheet, cells };
}

/** The sheet with the progress of one run changed. */
function withProgress(sheet: Sheet, id: string, progress: Progress): Sheet {
  if (!sheet.cells.some((cell) => cell.run?.id === id)) return sheet;
  const cells = sheet.cells.map((cell) => (cell.run?.id === id ? { ...cell, run: { ...cell.run, progress } } : cell));
  return { ...sheet, cells };
}

/** The sheet with one source as it is now; the row keeps what it has from its place here. */
function withSource(sheet: Sheet, source: SourceRow): Sheet {
  if (!sheet.sources.some((row) => row.id === source.id)) return sheet;
  return { ...sheet, sources: sheet.sources.map((row) => (row.id === source.id ? { ...source, folder: row.folder, taken: row.taken ?? null, taken_size: row.taken_size ?? null } : row)) };
}

/** The queue with one run changed. */
function queueWith(queue: Queue, id: string, change: (run: Run) => Run): Queue {
  return { ...queue, items: queue.items.map((item) => (item.run.id === id ? { ...item, run: change(item.run) } : item)) };
}

/** Loads again what many events in a row make stale, once when they have passed. */
class Later {
  private readonly waiting = new Map<string, readonly string[]>();
  private timer: ReturnType<typeof setTimeout> | undefined;

  again(client: QueryClient, key: readonly string[]): void {
    this.waiting.set(key.join(" "), key);
    this.timer ??= setTimeout(() => {
      this.timer = undefined;
      const keys = [...this.waiting.values()];
      this.waiting.clear();
      for (const queryKey of keys) void client.invalidateQueries({ queryKey });
    }, 300);
  }
}

const later = new Later();

/** How many of the last events are kept. */
const KEPT = 2000;
const recent: StreamEvent[] = [];

function applied(sheet: Sheet, change: Change): Sheet {
  switch (change.kind) {
    case "run":
      return withRun(sheet, change.run);
    case "progress":
      return withProgress(sheet, change.id, change.progress);
    case "source":
      return withSource(sheet, change.source);
    case "sheet":
    case "watch":
    case "viewing":
    case "proof":
    case "gap":
      return sheet;
  }
}

/** A sheet that was on its way while events came: brought up to date with them. */
export function caughtUp(sheet: Sheet): Sheet {
  return recent.filter((event) => event.seq > sheet.seq).reduce((now, event) => applied(now, event.change), sheet);
}

/** Waits for the sheet as it is now; the event that told of the change may have asked for it already. */
export async function sheetAgain(client: QueryClient, id: string): Promise<void> {
  await client.invalidateQueries({ queryKey: keys.sheet(id) }, { cancelRefetch: false });
}

/** Shows a column that was changed, with what is expected of its cells now; the rest of the sheet is asked for later. */
export function showColumn(client: QueryClient, sheet: string, changed: ChangedColumn): void {
  const cells = new Map(changed.cells.map((cell) => [cell.source, cell]));
  client.setQueryData<Sheet>(keys.sheet(sheet), (now) => now && {
    ...now,
    deliverables: now.deliverables.map((column) => (column.id === changed.column.id ? changed.column : column)),
    cells: now.cells.map((cell) => (cell.deliverable === changed.column.id ? (cells.get(cell.source) ?? cell) : cell)),
  });
}

/** Takes one event into everything that is loaded. */
function take(client: QueryClient, event: StreamEvent): void {
  const { change } = event;
  recent.push(event);
  if (recent.length > KEPT) recent.shift();
  client.setQueriesData<Sheet>({ queryKey: ["sheet"] }, (sheet) => sheet && applied(sheet, change));
  switch (change.kind) {
    case "run": {
      const { run } = change;
      later.again(client, keys.queue);
      if (run.deliverable) void client.invalidateQueries({ queryKey: keys.output(run.source, run.deliverable) });
      return;
    }
    case "progress": {
      const { id, progress } = change;
      client.setQueryData<Queue>(keys.queue, (queue) => queue && queueWith(queue, id, (run) => ({ ...run, progress })));
      return;
    }
    case "source": {
      const { source } = change;
      // The row is shown at once; what its cells will weigh is asked for when the reading has passed.
      for (const [queryKey, sheet] of client.getQueriesData<Sheet>({ queryKey: ["sheet"] })) {
        if (sheet?.sources.some((row) => row.id === source.id)) later.again(client, queryKey as string[]);
      }
      void client.invalidateQueries({ queryKey: ["bench"], predicate: (query) => query.queryKey[2] === source.id });
      void client.invalidateQueries({ queryKey: keys.curves(source.id) });
      return;
    }
    case "viewing":
      void client.invalidateQueries({ queryKey: keys.viewing(change.id) });
      return;
    case "sheet":
      later.again(client, keys.sheet(change.id));
      void client.invalidateQueries({ queryKey: keys.sheets });
      void client.invalidateQueries({ queryKey: ["bench", change.id] });
      void client.invalidateQueries({ queryKey: ["proofs"] });
      return;
    case "proof":
      later.again(client, keys.proofs(change.source, change.deliverable));
      void client.invalidateQueries({ queryKey: keys.output(change.source, change.deliverable) });
      return;
    case "watch":
      later.again(client, keys.watch);
      return;
    case "gap":
      void client.invalidateQueries();
      return;
  }
}

/** The first wait before the stream is opened again, in milliseconds; it doubles up to the longest. */
const FIRST_WAIT = 500;
const LONGEST_WAIT = 10_000;

/** Follows the stream for as long as the page lives; after a break it goes on where it was. */
export function follow(client: QueryClient): void {
  let seen: number | null = null;
  let wait = FIRST_WAIT;
  const open = () => {
    const address = new URL("/api/events", window.location.href);
    address.protocol = address.protocol === "https:" ? "wss:" : "ws:";
    if (seen !== null) address.searchParams.set("after", String(seen));
    const stream = new WebSocket(address);
    stream.onopen = () => {
      wait = FIRST_WAIT;
      // What was asked for while the server was away has failed.
      if (!connection.isThere()) void client.invalidateQueries();
      connection.set(true);
      // What was loaded before the stream was open may have changed unseen.
      if (seen === null) void client.invalidateQueries();
    };
    stream.onmessage = (message: MessageEvent<string>) => {
      const event = JSON.parse(message.data) as StreamEvent;
      seen = event.seq;
      take(client, event);
    };
    stream.onclose = () => {
      connection.set(false);
      window.setTimeout(open, wait);
      wait = Math.min(wait * 2, LONGEST_WAIT);
    };
  };
  open();
}
