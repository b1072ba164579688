import { expect, test } from "vitest";
import { ownReason } from "./Decisions";

test.each([
  ["the preset asks for it", null],
  ["the preset asks for it: not all players heed it", "the preset asks for it: not all players heed it"],
  ["the source has it", "the source has it"],
])("of “%s” each line says %j", (because, own) => {
  expect(ownReason({ because })).toBe(own);
});
