import { expect, test } from "vitest";
import type { QueueItem, Storage } from "../api/client";
import { where } from "./where";

const item = (run: Record<string, unknown>) => ({ run: { storage: "out", ...run } }) as unknown as QueueItem;
const there = { id: "out", name: "Deliveries", free: 1e9 } as Storage;
const away = { ...there, free: null, away_since: "2026-11-28T09:30:00Z" } as Storage;
const words = (run: Record<string, unknown>, before = 0, storage = there) => where(item(run), before, [storage]);

test("a run that waits says for what", () => {
  expect(words({ state: "waiting" })).toBe("next");
  expect(words({ state: "waiting" }, 7)).toBe("waiting, 7 before it");
  expect(words({ state: "waiting" }, 7, away)).toMatch(/^waiting: Deliveries is not reachable since/);
});

test("no figure is shown before there is one", () => {
  const progress = { task: "encode", fraction: 0, remaining: null };
  expect(words({ state: "running" })).toBe("starting");
  expect(words({ state: "running", progress })).toBe("starting");
  expect(words({ state: "running", progress: { ...progress, fraction: 0.429 } })).toBe("42 %");
  expect(words({ state: "running", progress: { ...progress, task: "analyse", fraction: 0.1 } })).toBe(
    "analysing, 10 %",
  );
  expect(words({ state: "running", progress: { ...progress, fraction: 1, read_back: 0.5 } })).toBe(
    "reading back, 50 %",
  );
});

test("what ended says how", () => {
  expect(words({ state: "done", size: 1_500_000 })).toBe("1.50 MB, checked");
  expect(words({ state: "failed", problem: { why: "the disk is full" } })).toBe("the disk is full");
  expect(words({ state: "cancelled" })).toBe("cancelled");
});
