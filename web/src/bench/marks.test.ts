import { describe, expect, test } from "vitest";
import type { Reading } from "../api/client";
import { joined, length, markedIn, markedOut, type Marks, partsOf, secondsOf } from "./marks";
import { clockOf } from "./position";

const clock = clockOf(
  {
    duration: "10",
    streams: [{ content: { kind: "picture", frame_rate: "25", varies: false } }],
  } as unknown as Reading,
  undefined,
);
const nothing: Marks = { parts: [], open: null };

describe("in and out", () => {
  test("an in point waits for its out point, whose frame still belongs to the part", () => {
    const open = markedIn(nothing, 10);
    expect(open).toEqual({ parts: [], open: 10 });
    expect(markedOut(open, 19)).toEqual({ parts: [{ first: 10, end: 20 }], open: null });
    expect(length(markedOut(open, 19).parts)).toBe(10);
  });

  test("without an in point the part begins with the source", () => {
    expect(markedOut(nothing, 4).parts).toEqual([{ first: 0, end: 5 }]);
  });

  test("within a part both points change it", () => {
    const marked: Marks = { parts: [{ first: 10, end: 50 }], open: null };
    expect(markedIn(marked, 20).parts).toEqual([{ first: 20, end: 50 }]);
    expect(markedOut(marked, 29).parts).toEqual([{ first: 10, end: 30 }]);
  });

  test("an out point before the open in point does not make a part backwards", () => {
    const open: Marks = { parts: [{ first: 0, end: 5 }], open: 100 };
    expect(markedOut(open, 20).parts).toEqual([{ first: 0, end: 21 }]);
  });
});

test("parts that touch become one, and stay in order", () => {
  expect(
    joined([
      { first: 30, end: 40 },
      { first: 0, end: 10 },
      { first: 10, end: 20 },
      { first: 35, end: 36 },
      { first: 50, end: 50 },
    ]),
  ).toEqual([
    { first: 0, end: 20 },
    { first: 30, end: 40 },
  ]);
});

test("frames survive their way to the server and back", () => {
  for (let first = 0; first < 240; first += 7) {
    const parts = [{ first, end: Math.min(first + 9, clock.frames) }];
    expect(partsOf({ parts: secondsOf(parts, clock) }, clock)).toEqual(parts);
  }
  // The end of the source is its end, and no frame behind it.
  expect(secondsOf([{ first: 240, end: 250 }], clock)[0]?.to).toBe("10000/1000");
});
