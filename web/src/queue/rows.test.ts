import { expect, test } from "vitest";
import { partsOf } from "./rows";

test.each([
  [0, 0, [0]],
  [0, 99, [0]],
  [95, 110, [0, 100]],
  [7890, 7930, [7800, 7900]],
  [250, 460, [200, 300, 400]],
])("rows %d to %d are loaded in parts from %j", (first, last, parts) => {
  expect(partsOf(first, last)).toEqual(parts);
});
