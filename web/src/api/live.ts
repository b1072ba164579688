/** Follows the server's events and keeps what is loaded up to date. */
import type { QueryClient } from "@tanstack/react-query";
import type { Change, Progress, QueueItem, Run, Sheet, StreamEvent } from "./client";

export const keys = {
  sheets: ["sheets"] as const,
  sheet: (id: string) => ["sheet", id] as const,
  queue: ["queue"] as const,
  watch: ["watch"] as const,
  watchFiles: (id: string, state: string) => ["watch", id, state] as const,
  presets: ["presets"] as const,
  storages: ["storages"] as const,
  output: (source: string, deliverable: string) => ["output", source, deliverable] as const,
};

/** The sheet with one run changed; the same sheet where the run is not in it. */
export function withRun(sheet: Sheet, run: Run): Sheet {
  if (run.sheet !== sheet.id) return sheet;
  const cells = sheet.cells.map((cell) => (cell.source === run.source && cell.deliverable === run.deliverable ? { ...cell, run } : cell));
  return { ...sheet, cells };
}

/** The sheet with the progress of one run changed. */
export function withProgress(sheet: Sheet, id: string, progress: Progress): Sheet {
  if (!sheet.cells.some((cell) => cell.run?.id === id)) return sheet;
  const cells = sheet.cells.map((cell) => (cell.run?.id === id ? { ...cell, run: { ...cell.run, progress } } : cell));
  return { ...sheet, cells };
}

/** The queue with one run changed. */
function queueWith(items: QueueItem[], id: string, change: (run: Run) => Run): QueueItem[] {
  return items.map((item) => (item.run.id === id ? { ...item, run: change(item.run) } : item));
}

/** Takes one change into everything that is loaded. */
export function take(client: QueryClient, change: Change): void {
  const eachSheet = (update: (sheet: Sheet) => Sheet) => {
    client.setQueriesData<Sheet>({ queryKey: ["sheet"] }, (sheet) => sheet && update(sheet));
  };
  switch (change.kind) {
    case "run": {
      const { run } = change;
      eachSheet((sheet) => withRun(sheet, run));
      void client.invalidateQueries({ queryKey: keys.queue });
      if (run.deliverable) void client.invalidateQueries({ queryKey: keys.output(run.source, run.deliverable) });
      return;
    }
    case "progress": {
      const { id, progress } = change;
      eachSheet((sheet) => withProgress(sheet, id, progress));
      client.setQueryData<QueueItem[]>(keys.queue, (items) => items && queueWith(items, id, (run) => ({ ...run, progress })));
      return;
    }
    case "source":
      return;
    case "sheet":
      void client.invalidateQueries({ queryKey: keys.sheet(change.id) });
      void client.invalidateQueries({ queryKey: keys.sheets });
      return;
    case "watch":
      void client.invalidateQueries({ queryKey: keys.watch });
      return;
    case "gap":
      void client.invalidateQueries();
      return;
  }
}

/** Follows the stream until the returned function is called. The browser reconnects by itself. */
export function follow(client: QueryClient): () => void {
  const stream = new EventSource("/api/events");
  let wasAway = false;
  stream.onmessage = (message: MessageEvent<string>) => {
    take(client, (JSON.parse(message.data) as StreamEvent).change);
  };
  stream.onerror = () => {
    wasAway = true;
  };
  stream.onopen = () => {
    // A server that was started anew counts from the beginning again: load everything once.
    if (wasAway) void client.invalidateQueries();
    wasAway = false;
  };
  return () => {
    stream.close();
  };
}
