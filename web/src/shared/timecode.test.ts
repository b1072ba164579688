import { describe, expect, test } from "vitest";
import type { Reading } from "../api/client";
import { countOf, type Count, frameOfTimecode, fromNought, lengthText, timecodeText } from "./timecode";

const source = (frame_rate: string, timecode?: string, varies = false) =>
  ({ timecode, streams: [{ content: { kind: "picture", frame_rate, varies } }] }) as unknown as Reading;

describe("how frames are counted", () => {
  test("from the source's own timecode, where it has one that fits", () => {
    expect(timecodeText(0, countOf(source("25", "10:00:00:00")))).toBe("10:00:00:00");
    expect(timecodeText(1.04, countOf(source("25", "10:00:00:00")))).toBe("10:00:01:01");
    // Frame 27 of 25 there is none: it counts from nought.
    expect(timecodeText(0, countOf(source("25", "10:00:00:27")))).toBe("00:00:00:00");
    expect(timecodeText(0, countOf(source("25", "10:00:00:00", true)))).toBe("00:00:00:00");
    expect(timecodeText(0, countOf(null))).toBe("00:00:00:00");
  });

  test("dropped numbers keep up with the clock", () => {
    const count = countOf(source("30000/1001", "00:00:59;29"));
    expect(timecodeText(0, count)).toBe("00:00:59;29");
    // Two numbers are left out at each minute, and none at each tenth.
    expect(timecodeText(1001 / 30_000, count)).toBe("00:01:00;02");
    const tenth = countOf(source("30000/1001", "00:09:59;29"));
    expect(timecodeText(1001 / 30_000, tenth)).toBe("00:10:00;00");
  });

  test("a length counts from nought", () => {
    expect(lengthText(2, countOf(source("25", "10:00:00:00")))).toBe("00:00:02:00");
  });
});

describe("what is typed", () => {
  const drop: Count = { rate: 30_000 / 1001, start: 0, drops: true };

  test.each([
    ["10:00:02:05", countOf(source("25", "10:00:00:00")), 55],
    ["00:00:02:05", countOf(source("25", "10:00:00:00")), 55],
    ["00:00:01:00", fromNought(25), 25],
    ["00:01:00;02", drop, 1800],
    ["00:01:00:02", drop, 1800],
    ["00:01:00;00", drop, null],
    ["00:00:00:25", fromNought(25), null],
    ["00:60:00:00", fromNought(25), null],
    ["seven", fromNought(25), null],
    ["", fromNought(25), null],
  ])("%s names frame %o", (typed, count, frame) => {
    expect(frameOfTimecode(typed, count)).toBe(frame);
  });

  test("each frame has one name, and each name its frame", () => {
    for (const count of [fromNought(24), fromNought(25), fromNought(50), drop, { ...drop, start: 1798 }]) {
      for (let frame = 0; frame < 40_000; frame += 7) {
        expect(frameOfTimecode(timecodeText(frame / count.rate, count), count)).toBe(frame);
      }
    }
  });
});
