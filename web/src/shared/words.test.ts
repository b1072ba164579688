import { afterEach, describe, expect, test } from "vitest";
import { changeText, clockText, dayText, progressText, setHouseZone, sizeText, spanText } from "./words";

describe("figures", () => {
  test.each([
    [0, "0 B"],
    [999, "999 B"],
    [999.6, "1.00 kB"],
    [1_234, "1.23 kB"],
    [12_345, "12.3 kB"],
    [123_456, "123 kB"],
    [999_600, "1.00 MB"],
    [98_000_000, "98.0 MB"],
    [1_250_000_000, "1.25 GB"],
    [2.5e15, "2500 TB"],
  ])("%d bytes are %s", (bytes, words) => {
    expect(sizeText(bytes)).toBe(words);
  });

  test.each([
    [100, 2, "−98 %"],
    [100, 0, "−99 %"],
    [100, 99.6, "same size"],
    [100, 140, "+40 %"],
    [100, 350, "×3.5"],
    [100, 1234, "×12"],
    [0, 10, ""],
  ])("from %d to %d is %s", (before, after, words) => {
    expect(changeText(before, after)).toBe(words);
  });

  test.each([
    [-3, "0:00"],
    [48.4, "0:48"],
    [59.6, "1:00"],
    [3_599.6, "1:00:00"],
    [36_010, "10:00:10"],
  ])("%d seconds are %s", (seconds, words) => {
    expect(spanText(seconds)).toBe(words);
  });
});

describe("the clock of the house", () => {
  afterEach(() => {
    setHouseZone(undefined);
  });
  const moment = new Date("2026-03-29T00:59:30Z");

  test("times are those of the house, wherever they are looked at from", () => {
    setHouseZone("Asia/Kolkata");
    expect(clockText(moment)).toBe("06:29");
    setHouseZone("America/Los_Angeles");
    expect(dayText(moment)).toBe("28 Mar, 17:59");
  });

  test("an hour that is left out in spring is left out", () => {
    setHouseZone("Europe/Berlin");
    expect(clockText(moment, true)).toBe("01:59:30");
    expect(clockText(new Date(moment.getTime() + 60_000))).toBe("03:00");
  });
});

test("how far a run is, with what it does and what is left", () => {
  const progress = {
    task: "encode",
    fraction: 0.439,
    remaining: 125,
    frames: 0,
    position: 0,
    bytes: 0,
    speed: 1,
  } as const;
  expect(progressText(progress)).toBe("43 % · 2:05 left");
  expect(progressText({ ...progress, remaining: null })).toBe("43 %");
  expect(progressText({ ...progress, task: "analyse" })).toBe("analysing, 43 % · 2:05 left");
  expect(progressText({ ...progress, read_back: 0.2 })).toBe("reading back, 20 %");
  expect(progressText(null)).toBe("0 %");
});
