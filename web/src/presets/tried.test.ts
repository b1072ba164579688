import { describe, expect, test } from "vitest";
import type { Tried } from "../api/client";
import { isWithin, triedWords } from "./tried";

const tried = (more: Partial<Tried>): Tried => ({ faults: [], ...more });
const fault = (field: string, words: string) => ({ field, code: "contradiction" as const, words });

describe("a fault stands at its setting", () => {
  test.each([
    ["picture.rate.crf", "picture.rate", true],
    ["picture.rate", "picture.rate", true],
    ["picture", "picture.rate", true],
    ["picture.rate", "picture.rated", false],
    ["sound.codec", "picture.codec", false],
    ["", "picture.codec", false],
  ])("%j at %s: %j", (field, place, is) => {
    expect(isWithin(field, place)).toBe(is);
  });
});

describe("what comes of a preset is said in words", () => {
  test.each([
    ["nothing before the server has answered", undefined, false, ""],
    ["a minute where no source is chosen", tried({ bytes_per_minute: 12_000_000 }), false, "≈ 12.0 MB"],
    [
      "the forecast of the source",
      tried({ bytes_per_minute: 1, forecast: { size: 3_400_000 } as NonNullable<Tried["forecast"]> }),
      true,
      "≈ 3.40 MB",
    ],
    ["that it takes a source, where a usual minute does not have what is wanted", tried({}), false, "choose a source"],
    ["nothing of a source that is not read", tried({ bytes_per_minute: 12_000_000 }), true, ""],
    ["why the source cannot be", tried({ refusal: "the source has no sound" }), true, "the source has no sound"],
    [
      "how many settings cannot be",
      tried({ faults: [fault("sound.codec", "x"), fault("id", "y")] }),
      false,
      "2 settings cannot be",
    ],
    ["what is wrong with all of it", tried({ faults: [fault("", "this is not JSON")] }), false, "this is not JSON"],
  ])("%s", (_, answer, isOfSource, words) => {
    expect(triedWords(answer, isOfSource)).toBe(words);
  });
});
