/** Follows the server's events and keeps what is loaded up to date. */
import type { QueryClient } from "@tanstack/react-query";
import { connection } from "./connection";
import { emptyBatch, gather, queueWith, sheetWith } from "./batch";
import type { ChangedColumn, QueuePart, Sheet, StreamEvent } from "./client";

export const keys = {
  sheets: ["sheets"] as const,
  sheet: (id: string) => ["sheet", id] as const,
  queue: ["queue"] as const,
  queueRows: ["queue", "rows"] as const,
  queuePart: (sheet: string | null, from: number) => ["queue", "rows", sheet, from] as const,
  night: ["queue", "night"] as const,
  watch: ["watch"] as const,
  watchFiles: (id: string, state: string) => ["watch", id, state] as const,
  presets: ["presets"] as const,
  presetVersions: (id: string) => ["presets", id, "versions"] as const,
  storages: ["storages"] as const,
  assets: ["assets"] as const,
  settings: ["settings"] as const,
  suggestions: (sheet: string) => ["suggestions", sheet] as const,
  catalogue: ["catalogue"] as const,
  viewing: (id: string) => ["viewing", id] as const,
  bench: (sheet: string, source: string) => ["bench", sheet, source] as const,
  proofs: (source: string, deliverable: string) => ["proofs", source, deliverable] as const,
  proofCurve: (id: string) => ["proof", id] as const,
  curves: (source: string) => ["curves", source] as const,
  output: (source: string, deliverable: string) => ["output", source, deliverable] as const,
};

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

/** A sheet that was on its way while events came: brought up to date with them. */
export function caughtUp(sheet: Sheet): Sheet {
  const missed = emptyBatch();
  for (const event of recent) if (event.seq > sheet.seq) gather(missed, event.change);
  return sheetWith(sheet, missed);
}

/** Waits for the sheet as it is now; the event that told of the change may have asked for it already. */
export async function sheetAgain(client: QueryClient, id: string): Promise<void> {
  await client.invalidateQueries({ queryKey: keys.sheet(id) }, { cancelRefetch: false });
}

/** Shows a column that was changed, with what is expected of its cells now; the rest of the sheet is asked for later. */
export function showColumn(client: QueryClient, sheet: string, changed: ChangedColumn): void {
  const cells = new Map(changed.cells.map((cell) => [cell.source, cell]));
  client.setQueryData<Sheet>(
    keys.sheet(sheet),
    (now) =>
      now && {
        ...now,
        deliverables: now.deliverables.map((column) => (column.id === changed.column.id ? changed.column : column)),
        cells: now.cells.map((cell) =>
          cell.deliverable === changed.column.id ? (cells.get(cell.source) ?? cell) : cell,
        ),
      },
  );
}

/** How long changes are gathered before they are shown, in milliseconds: engines tell of a run no more often. */
const GATHERED = 300;
let batch = emptyBatch();
let timer: ReturnType<typeof setTimeout> | undefined;

/** Shows what has been gathered. */
function show(client: QueryClient): void {
  const now = batch;
  batch = emptyBatch();
  timer = undefined;
  client.setQueriesData<Sheet>({ queryKey: ["sheet"] }, (sheet) => sheet && sheetWith(sheet, now));
  client.setQueriesData<QueuePart>({ queryKey: keys.queueRows }, (part) => part && queueWith(part, now));
  if (now.runs.size > 0) {
    later.again(client, keys.queue);
    const shown = client.getQueryCache().findAll({ queryKey: ["output"] });
    for (const run of now.runs.values()) {
      if (run.deliverable && shown.length > 0)
        void client.invalidateQueries({ queryKey: keys.output(run.source, run.deliverable) });
    }
  }
  if (now.sources.size === 0) return;
  // Rows are shown at once; what their cells will weigh is asked for when the reading has passed.
  for (const [queryKey, sheet] of client.getQueriesData<Sheet>({ queryKey: ["sheet"] })) {
    if (sheet?.sources.some((row) => now.sources.has(row.id))) later.again(client, queryKey as string[]);
  }
  void client.invalidateQueries({
    queryKey: ["bench"],
    predicate: (query) => now.sources.has(String(query.queryKey[2])),
  });
  void client.invalidateQueries({ queryKey: ["suggestions"] });
  for (const source of now.sources.keys()) void client.invalidateQueries({ queryKey: keys.curves(source) });
}

/** Takes one event into everything that is loaded. */
function take(client: QueryClient, event: StreamEvent): void {
  const { change } = event;
  recent.push(event);
  if (recent.length > KEPT) recent.shift();
  if (gather(batch, change)) {
    timer ??= setTimeout(() => {
      show(client);
    }, GATHERED);
    return;
  }
  switch (change.kind) {
    case "viewing":
      void client.invalidateQueries({ queryKey: keys.viewing(change.id) });
      return;
    case "sheet":
      later.again(client, keys.sheet(change.id));
      void client.invalidateQueries({ queryKey: keys.sheets });
      void client.invalidateQueries({ queryKey: keys.suggestions(change.id) });
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
    case "house":
      // The parts of the house are named as what is loaded of them.
      void client.invalidateQueries({ queryKey: [change.part] });
      return;
    case "gap":
      void client.invalidateQueries();
      return;
    case "runs":
    case "progress":
    case "source":
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
