import { describe, expect, test } from "vitest";
import type { Curves, Reading } from "../api/client";
import { clamp, clockOf, lastNotAfter } from "./position";

const reading = (frame_rate: string, duration: string, varies = false) =>
  ({ duration, streams: [{ content: { kind: "picture", frame_rate, varies } }] }) as unknown as Reading;

describe("the clock of a source with a constant rate", () => {
  test.each([
    ["25", "10", 250],
    ["30000/1001", "1001/100", 300],
    ["24000/1001", "1001/1000", 24],
    ["50", "1/100", 1],
  ])("counts frames of %s a second over %s s", (rate, duration, frames) => {
    expect(clockOf(reading(rate, duration), undefined).frames).toBe(frames);
  });

  test("finds each frame again at its own moment, to the last one", () => {
    const clock = clockOf(reading("30000/1001", "3600"), undefined);
    for (const frame of [0, 1, 2, 29, 30, 1799, 1800, clock.frames - 1]) {
      expect(clock.frameAt(clock.timeOf(frame))).toBe(frame);
    }
    expect(clock.frameAt(1e9)).toBe(clock.frames - 1);
    expect(clock.frameAt(-5)).toBe(0);
  });

  test("says moments as exact fractions", () => {
    expect(clockOf(reading("30000/1001", "10"), undefined).exactTimeOf(30)).toBe("30030/30000");
    expect(clockOf(reading("25", "10"), undefined).exactTimeOf(26)).toBe("26/25");
  });

  test("goes on by seconds as timecode counts them, and not beyond the ends", () => {
    const clock = clockOf(reading("30000/1001", "10"), undefined);
    expect(clock.secondsOn(0, 2)).toBe(60);
    expect(clock.secondsOn(10, -1)).toBe(0);
    expect(clock.secondsOn(290, 5)).toBe(clock.frames - 1);
  });
});

describe("the clock of a source whose rate varies", () => {
  const curves = { frames: [0, 40, 80, 500, 520] } as unknown as Curves;
  const clock = clockOf(reading("25", "1", true), curves);

  test("goes by the moments at which frames were seen", () => {
    expect(clock.frames).toBe(5);
    expect(clock.timeOf(3)).toBe(0.5);
    expect([0.079, 0.0801, 0.3, 0.5, 0.51, 9].map(clock.frameAt)).toEqual([1, 2, 2, 3, 3, 4]);
    expect(clock.exactTimeOf(4)).toBe("520/1000");
  });

  test("goes on by seconds of the clock", () => {
    expect(clock.secondsOn(0, 0.5)).toBe(3);
    expect(clock.secondsOn(4, -9)).toBe(0);
  });

  test("is that of a constant rate until its moments are known", () => {
    expect(clockOf(reading("25", "1", true), undefined).frames).toBe(25);
  });
});

test("nothing is known of a source that was not read, and one frame of it can be stood on", () => {
  const clock = clockOf(null, undefined);
  expect([clock.frames, clock.frameAt(10), clock.timeOf(0)]).toEqual([1, 0, 0]);
});

test("the last of rising values that is not above another", () => {
  expect([-1, 0, 1, 2, 3].map((value) => lastNotAfter([0, 1, 1, 2], value))).toEqual([-1, 0, 2, 3, 3]);
  expect(lastNotAfter([], 5)).toBe(-1);
  expect([clamp(5, 0, 3), clamp(-5, 0, 3), clamp(2, 0, 3)]).toEqual([3, 0, 2]);
});
