import { describe, expect, test } from "vitest";
import { emptyBatch, gather, isEmpty, queueWith, sheetWith } from "./batch";
import type { Cell, Change, QueuePart, Run, Sheet, SourceRow } from "./client";

const ROWS = 3;
const COLUMNS = 2;

function run(id: string, row: number, column: number, more: Partial<Run> = {}): Run {
  return {
    id,
    state: "running",
    path: `out/${id}`,
    notes: 0,
    attempts: 1,
    source: `s${String(row)}`,
    deliverable: `d${String(column)}`,
    sheet: "sheet",
    storage: "storage",
    priority: 0,
    ...more,
  };
}

function sheet(): Sheet {
  const sources = Array.from(
    { length: ROWS },
    (_, row) =>
      ({
        id: `s${String(row)}`,
        name: `clip ${String(row)}`,
        folder: "day 1",
        taken: "00:00:04:00",
        taken_size: 7,
        findings: [],
      }) as unknown as SourceRow,
  );
  const deliverables = Array.from(
    { length: COLUMNS },
    (_, column) => ({ id: `d${String(column)}` }) as unknown as Sheet["deliverables"][number],
  );
  const cells = sources.flatMap((source) =>
    deliverables.map((column): Cell => ({
      source: source.id,
      deliverable: column.id,
      enabled: true,
      exceeds_source: false,
    })),
  );
  return { id: "sheet", seq: 5, name: "Weekly", sources, deliverables, cells };
}

function batchOf(...changes: Change[]) {
  const batch = emptyBatch();
  for (const change of changes) expect(gather(batch, change)).toBe(true);
  return batch;
}

const progress = (fraction: number) =>
  ({ task: "encode", frames: 1, position: 1, bytes: 1, speed: 1, fraction, moved: 1 }) as unknown as Extract<
    Change,
    { kind: "progress" }
  >["progress"];

describe("what is gathered", () => {
  test("of each run its last state counts, and how far it came after that", () => {
    const batch = batchOf(
      { kind: "progress", id: "a", progress: progress(0.9) },
      { kind: "runs", runs: [run("a", 0, 0, { state: "waiting" }), run("b", 0, 1)] },
      { kind: "runs", runs: [run("b", 0, 1, { state: "done" })] },
    );
    expect([...batch.runs.values()].map(({ id, state }) => [id, state])).toEqual([
      ["a", "waiting"],
      ["b", "done"],
    ]);
    expect(batch.progress.size).toBe(0);
    expect(isEmpty(batch)).toBe(false);
  });

  test("what makes a list stale is not gathered", () => {
    const batch = emptyBatch();
    for (const change of [{ kind: "sheet", id: "sheet" }, { kind: "gap" }, { kind: "watch", id: "w" }] as Change[])
      expect(gather(batch, change)).toBe(false);
    expect(isEmpty(batch)).toBe(true);
  });
});

describe("a sheet that is brought up to date", () => {
  test("changes the cells of runs and leaves all others as they are", () => {
    const before = sheet();
    const after = sheetWith(
      before,
      batchOf({ kind: "runs", runs: [run("a", 1, 1)] }, { kind: "progress", id: "a", progress: progress(0.5) }),
    );
    expect(after.cells[3]?.run?.id).toBe("a");
    expect(after.cells[3]?.run?.progress?.fraction).toBe(0.5);
    after.cells.forEach((cell, place) => {
      if (place !== 3) expect(cell).toBe(before.cells[place]);
    });
    // The next moment finds the run by its place.
    const later = sheetWith(after, batchOf({ kind: "progress", id: "a", progress: progress(0.75) }));
    expect(later.cells[3]?.run?.progress?.fraction).toBe(0.75);
    expect(after.cells[3]?.run?.progress?.fraction).toBe(0.5);
  });

  test("a new run has the settings of now; one that was known may be out of date", () => {
    const before = sheetWith(sheet(), batchOf({ kind: "runs", runs: [run("a", 0, 0, { state: "done" })] }));
    const stale = {
      ...before,
      cells: before.cells.map((cell, place) => (place === 0 ? { ...cell, is_out_of_date: true } : cell)),
    };
    expect(
      sheetWith(stale, batchOf({ kind: "runs", runs: [run("a", 0, 0, { state: "done" })] })).cells[0]?.is_out_of_date,
    ).toBe(true);
    expect(sheetWith(stale, batchOf({ kind: "runs", runs: [run("b", 0, 0)] })).cells[0]?.is_out_of_date).toBe(false);
  });

  test("progress of a run that is no longer the last one of its cell is nobody's", () => {
    const first = sheetWith(sheet(), batchOf({ kind: "runs", runs: [run("a", 0, 0)] }));
    const second = sheetWith(first, batchOf({ kind: "runs", runs: [run("b", 0, 0)] }));
    expect(
      sheetWith(second, batchOf({ kind: "progress", id: "a", progress: progress(0.5) })).cells[0]?.run?.progress,
    ).toBeUndefined();
  });

  test("strangers change nothing: the sheet stays the very same", () => {
    const before = sheet();
    const strangers = batchOf(
      { kind: "runs", runs: [run("a", 0, 0, { sheet: "another" }), run("b", 9, 0), run("c", 0, 9)] },
      { kind: "progress", id: "d", progress: progress(0.5) },
      { kind: "source", source: { id: "s9", findings: [] } as unknown as SourceRow },
    );
    expect(sheetWith(before, strangers)).toBe(before);
  });

  test("a source that was read keeps what it has from its row", () => {
    const after = sheetWith(
      sheet(),
      batchOf({
        kind: "source",
        source: { id: "s2", name: "clip 2", summary: "1080p25", findings: [] } as unknown as SourceRow,
      }),
    );
    expect(after.sources[2]).toMatchObject({
      summary: "1080p25",
      folder: "day 1",
      taken: "00:00:04:00",
      taken_size: 7,
    });
    expect(after.sources[1]).toMatchObject({ name: "clip 1" });
  });
});

test("a part of the queue changes in the rows that are in it", () => {
  const item = (id: string) => ({ run: run(id, 0, 0), source_name: id, preset_name: "Web" });
  const part: QueuePart = { items: [item("a"), item("b")], rows: 2, at_work: 2, held: 0, waiting: 0 };
  const after = queueWith(
    part,
    batchOf(
      { kind: "runs", runs: [run("b", 0, 0, { state: "done" })] },
      { kind: "progress", id: "a", progress: progress(0.25) },
    ),
  );
  expect(after.items.map(({ run: { state, progress: far } }) => [state, far?.fraction])).toEqual([
    ["running", 0.25],
    ["done", undefined],
  ]);
  expect(queueWith(part, batchOf({ kind: "progress", id: "z", progress: progress(1) }))).toBe(part);
});
