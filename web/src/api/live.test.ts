import { QueryClient } from "@tanstack/react-query";
import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";
import type { Change, Sheet } from "./client";
import { connection } from "./connection";
import { caughtUp, follow, keys, showColumn } from "./live";

/** The stream of the server, as a test plays it. */
class Stream {
  static all: Stream[] = [];
  static now = () => Stream.all.at(-1) as Stream;
  onopen: () => void = () => undefined;
  onclose: () => void = () => undefined;
  onmessage: (message: { data: string }) => void = () => undefined;
  constructor(readonly address: URL) {
    Stream.all.push(this);
  }
  says(seq: number, change: Partial<Change> & { kind: Change["kind"] }) {
    this.onmessage({ data: JSON.stringify({ seq, change }) });
  }
}

let client: QueryClient;
let again: ReturnType<typeof vi.fn>;
const asked = () => again.mock.calls.map(([filters]) => (filters as { queryKey?: string[] } | undefined)?.queryKey);

const sheet = (seq: number) =>
  ({
    id: "sheet",
    seq,
    sources: [{ id: "s", name: "clip.mov", folder: "card" }],
    deliverables: [
      { id: "d0", preset: { name: "Web" } },
      { id: "d1", preset: { name: "Proxy" } },
    ],
    cells: [
      { source: "s", deliverable: "d0", enabled: true, forecast: 10 },
      { source: "s", deliverable: "d1", enabled: true, forecast: 20 },
    ],
  }) as unknown as Sheet;

const run = (state: string) =>
  ({ id: "r", state, sheet: "sheet", source: "s", deliverable: "d1" }) as unknown as Extract<
    Change,
    { kind: "runs" }
  >["runs"][number];

const shown = () => client.getQueryData<Sheet>(keys.sheet("sheet"));

beforeEach(() => {
  vi.useFakeTimers();
  vi.stubGlobal("WebSocket", Stream);
  vi.stubGlobal("window", { location: { href: "http://127.0.0.1:8400/sheets" }, setTimeout });
  Stream.all = [];
  client = new QueryClient();
  again = vi.fn(() => Promise.resolve());
  client.invalidateQueries = again as unknown as QueryClient["invalidateQueries"];
  connection.set(true);
  follow(client);
  Stream.now().onopen();
  again.mockClear();
});

afterEach(() => {
  vi.runAllTimers();
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

describe("events of runs", () => {
  test("are gathered for a moment, then shown at once", () => {
    client.setQueryData(keys.sheet("sheet"), sheet(1));
    const before = shown();
    Stream.now().says(2, { kind: "runs", runs: [run("waiting")] });
    Stream.now().says(3, { kind: "runs", runs: [run("running")] });
    expect(shown()?.cells[1]?.run).toBeUndefined();
    vi.advanceTimersByTime(300);
    expect(shown()?.cells[1]?.run?.state).toBe("running");
    // Cells of which nothing was said are the same as before, and are not drawn anew.
    expect(shown()?.cells[0]).toBe(before?.cells[0]);
  });

  test("make the counts of the queue stale once, however many there are", () => {
    for (let seq = 2; seq < 50; seq += 1) Stream.now().says(seq, { kind: "runs", runs: [run("running")] });
    vi.advanceTimersByTime(1000);
    expect(asked().filter((key) => key?.join() === "queue")).toHaveLength(1);
  });

  test("that came while a sheet was on its way are brought into it", () => {
    Stream.now().says(105, { kind: "runs", runs: [run("done")] });
    expect(caughtUp(sheet(104)).cells[1]?.run?.state).toBe("done");
    // What the sheet has already is not told again.
    expect(caughtUp(sheet(105)).cells[1]?.run).toBeUndefined();
  });
});

test("a sheet that somebody changed is asked for again, with what hangs on it", () => {
  Stream.now().says(2, { kind: "sheet", id: "sheet" });
  vi.advanceTimersByTime(1000);
  for (const key of [keys.sheets, keys.suggestions("sheet"), ["bench", "sheet"], keys.sheet("sheet")])
    expect(asked()).toContainEqual(key);
});

test("what the house has is asked for again by its name", () => {
  Stream.now().says(2, { kind: "house", part: "presets" });
  expect(asked()).toEqual([["presets"]]);
});

test("where events are missing, everything is asked for again", () => {
  Stream.now().says(900, { kind: "gap" });
  expect(asked()).toEqual([undefined]);
});

describe("a stream that breaks", () => {
  test("is opened again where it was, with growing pauses, and the page says so", () => {
    Stream.now().says(41, { kind: "watch", id: "w" });
    for (const pause of [500, 1000, 2000, 4000, 8000, 10_000, 10_000]) {
      Stream.now().onclose();
      expect(connection.isThere()).toBe(false);
      const before = Stream.all.length;
      vi.advanceTimersByTime(pause - 1);
      expect(Stream.all).toHaveLength(before);
      vi.advanceTimersByTime(1);
      expect(Stream.all).toHaveLength(before + 1);
    }
    expect(Stream.now().address.protocol).toBe("ws:");
    expect(Stream.now().address.searchParams.get("after")).toBe("41");
    again.mockClear();
    Stream.now().onopen();
    expect(connection.isThere()).toBe(true);
    // What was asked for in between has failed.
    expect(asked()).toEqual([undefined]);
    // The next break begins with the shortest pause again.
    Stream.now().onclose();
    const before = Stream.all.length;
    vi.advanceTimersByTime(500);
    expect(Stream.all).toHaveLength(before + 1);
  });
});

test("a column that was changed is shown with its cells, and the others stay what they are", () => {
  client.setQueryData(keys.sheet("sheet"), sheet(1));
  const before = shown();
  showColumn(client, "sheet", {
    column: { ...before?.deliverables[1], preset: { name: "Sound only" } },
    cells: [{ source: "s", deliverable: "d1", enabled: true, forecast: 3 }],
  } as unknown as Parameters<typeof showColumn>[2]);
  expect(shown()?.deliverables.map(({ preset }) => preset.name)).toEqual(["Web", "Sound only"]);
  expect(shown()?.cells.map(({ forecast }) => forecast)).toEqual([10, 3]);
  expect(shown()?.cells[0]).toBe(before?.cells[0]);
});
