import { expect, test } from "vitest";
import { workIn } from "./cancelling";

const NOW = new Date("2026-05-04T20:10:00Z").getTime();

test("the work that would be lost is that of the run that has worked longest", () => {
  const runs = [
    { state: "waiting", started: null },
    { state: "running", started: "2026-05-04T20:00:00Z" },
    { state: "paused", started: "2026-05-04T20:08:00Z" },
    { state: "done", started: "2026-05-04T10:00:00Z" },
  ] as const;
  expect(workIn([...runs], NOW)).toBe(600);
  expect(workIn([runs[0], runs[3]], NOW)).toBe(0);
  expect(workIn([], NOW)).toBe(0);
});
