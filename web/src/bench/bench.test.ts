import { expect, test } from "vitest";
import type { Reading } from "../api/client";
import { shuttled } from "./position";
import { soundStreams } from "./sounds";

const pressed = (...directions: (1 | -1)[]) => directions.reduce((speed, direction) => shuttled(speed, direction), 0);

test("each press plays faster in its direction, up to a limit", () => {
  expect([1, 2, 3, 4, 5, 6].map((times) => pressed(...Array<1>(times).fill(1)))).toEqual([1, 2, 4, 8, 8, 8]);
  expect(pressed(-1, -1, -1)).toBe(-4);
});

test("a press against the motion slows it down, and then turns it round", () => {
  expect(pressed(1, 1, 1, -1)).toBe(2);
  expect(pressed(1, 1, 1, -1, -1)).toBe(1);
  expect(pressed(1, 1, 1, -1, -1, -1)).toBe(-1);
});

test("streams of sound are told apart by number, language, layout and title", () => {
  const streams = [
    { index: 0, content: { kind: "picture" } },
    { index: 1, content: { kind: "sound", layout: "stereo" }, language: "eng", title: "Dialogue" },
    { index: 3, content: { kind: "sound", layout: "5.1" }, language: null, title: null },
  ];
  expect(soundStreams({ streams } as unknown as Reading)).toEqual([
    { value: "1", words: "1 · eng · stereo · Dialogue" },
    { value: "3", words: "2 · 5.1" },
  ]);
  expect(soundStreams(null)).toEqual([]);
});
