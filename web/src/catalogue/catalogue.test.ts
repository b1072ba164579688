import { describe, expect, test } from "vitest";
import type { Kind, Patch, Section } from "../api/client";
import {
  bitsOf,
  type Figure,
  formOf,
  limitsWords,
  numberOf,
  parsed,
  shown,
  sortedOffers,
  valueAt,
  withValue,
  patternExample,
  tokensOf,
  tokenWords,
} from "./catalogue";

const bits: Figure = {
  kind: "bit_rate",
  unit: "bit/s",
  least: "16000",
  most: "2000000000",
  offers: [
    { value: "8000000", words: "8 Mb/s" },
    { value: "1000000", words: "1 Mb/s" },
  ],
};
const rate: Figure = {
  kind: "fraction",
  unit: "fps",
  most: "240",
  offers: [
    { value: "25", words: "25" },
    { value: "30000/1001", words: "29.97" },
  ],
};
const width: Figure = { kind: "number", unit: "px", least: "16", most: "8192" };

describe("figures that are typed", () => {
  test.each([
    ["8 Mb/s", 8e6],
    ["8M", 8e6],
    ["800 kb/s", 8e5],
    ["800k", 8e5],
    ["2,5 Mb/s", 2.5e6],
    ["192000", 192_000],
  ])("%s is %d bits a second", (text, expected) => {
    expect(bitsOf(text)).toBe(expected);
    expect(parsed(bits, text)).toEqual({ value: expected });
  });

  test("a fraction is kept as it is written, and an offer stands for its value", () => {
    expect(parsed(rate, "29.97")).toEqual({ value: "30000/1001" });
    expect(parsed(rate, "24000/1001")).toEqual({ value: "24000/1001" });
    expect(parsed(rate, "12,5")).toEqual({ value: "12.5" });
    expect(numberOf("30000/1001")).toBeCloseTo(29.97, 3);
  });

  test("a unit may be typed along", () => {
    expect(parsed(width, "1920 px")).toEqual({ value: 1920 });
  });

  test.each([
    [bits, "fast", "16 kb/s to 2000 Mb/s"],
    [bits, "1k", "16 kb/s to 2000 Mb/s"],
    [width, "9000", "16 to 8192 px"],
    [rate, "1000", "at most 240 fps"],
    [rate, "", "at most 240 fps"],
  ])("what cannot be had says what can", (kind, text, words) => {
    expect(parsed(kind, text)).toEqual({ fault: words });
    expect(limitsWords(kind)).toBe(words);
  });

  test("values are shown as they are typed", () => {
    expect(shown(bits, 8e6)).toBe("8 Mb/s");
    expect(shown(bits, 8e5)).toBe("800 kb/s");
    expect(shown(rate, "30000/1001")).toBe("29.97");
    expect(shown(width, 1920)).toBe("1920 px");
    expect(sortedOffers(bits).map((offer) => offer.words)).toEqual(["1 Mb/s", "8 Mb/s"]);
  });
});

describe("values at their places", () => {
  const patch: Patch = { picture: { crop: { rule: "bars" }, colour: { lut: null } } };

  test("are found, also where they say that there shall be nothing", () => {
    expect(valueAt(patch, "picture.crop")).toEqual({ rule: "bars" });
    expect(valueAt(patch, "picture.colour.lut")).toBeNull();
    expect(valueAt(patch, "sound.channels")).toBeUndefined();
  });

  test("are set and left again without a trace", () => {
    const set = withValue(patch, "sound.channels", "mono");
    expect(set.sound).toEqual({ channels: "mono" });
    expect(withValue(set, "sound.channels", undefined)).toEqual(patch);
    expect(withValue(patch, "picture.crop", { rule: "shape", shape: "16/9" }).picture?.crop).toEqual({
      rule: "shape",
      shape: "16/9",
    });
  });
});

test("a form of a rule begins with what it needs, and keeps what it can", () => {
  const named = (place: string, kind: Kind, is_optional = false) => ({
    place,
    name: place,
    says: "",
    is_optional,
    kind,
  });
  const rule: Extract<Kind, { kind: "rule" }> = {
    kind: "rule",
    tag: "mode",
    forms: [
      {
        value: "constant_quality",
        words: "constant quality",
        says: "",
        settings: [named("crf", { kind: "number", offers: [{ value: "20", words: "20" }] })],
      },
      {
        value: "average",
        words: "mean rate",
        says: "",
        settings: [named("bits_per_second", bits), named("peak", bits, true)],
      },
      { value: "language", words: "by language", says: "", settings: [named("language", { kind: "language" })] },
    ],
  };
  expect(formOf(rule, "language", "fra")).toEqual({ mode: "language", language: "fra" });
  expect(formOf(rule, "constant_quality", "eng")).toEqual({ mode: "constant_quality", crf: 20 });
  expect(formOf(rule, "average", "eng", { mode: "constant", bits_per_second: 5e6 })).toEqual({
    mode: "average",
    bits_per_second: 5e6,
  });
  expect(formOf(rule, "average", "eng")).toEqual({ mode: "average", bits_per_second: 8e6 });
});

describe("name patterns", () => {
  const tokens = [
    { word: "name", says: "name of the source", example: "kiln-07" },
    { word: "preset", says: "id of the preset", example: "web-1080" },
  ];
  test("have the tokens of the one setting that is a pattern", () => {
    const sections = [
      { name: "Format", settings: [{ place: "container", kind: { kind: "text" } }] },
      { name: "Name", settings: [{ place: "name_pattern", kind: { kind: "pattern", tokens } }] },
    ] as unknown as Section[];
    expect(tokensOf(sections)).toEqual(tokens);
    expect(tokenWords(tokens)).toBe("Tokens: <name> <preset>");
  });

  test("are shown by what is known, then by examples; what is no token stays as it is typed", () => {
    expect(patternExample("<name>_<preset>", tokens, {})).toBe("kiln-07_web-1080");
    expect(patternExample("<name>_<preset>", tokens, { preset: "own" })).toBe("kiln-07_own");
    expect(patternExample("<client>/<name>{1}", tokens, { preset: undefined })).toBe("<client>/kiln-07{1}");
  });
});
