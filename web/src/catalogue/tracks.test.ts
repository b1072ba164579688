import { expect, test } from "vitest";
import { sourcesOf, sourcesText } from "./tracks";

test.each([
  ["2", [{ stream: 1 }]],
  ["1: 1, 2", [{ stream: 0, channels: [0, 1] }]],
  ["1: 2 + 2 + 12: 6", [{ stream: 0, channels: [1] }, { stream: 1 }, { stream: 11, channels: [5] }]],
])("“%s” is read and written alike", (text, from) => {
  expect(sourcesOf(text)).toEqual(from);
  expect(sourcesText(from)).toBe(text);
});

test("what is typed otherwise is read as it is meant, and what says nothing is refused", () => {
  expect(sourcesOf(" 1:1 2+3 ")).toEqual([{ stream: 0, channels: [0, 1] }, { stream: 2 }]);
  for (const text of ["", "0", "1:", "1: 0", "one", "1 2", "1:2:3", "1 +", "-1", "1.5"])
    expect(sourcesOf(text)).toBeNull();
});
