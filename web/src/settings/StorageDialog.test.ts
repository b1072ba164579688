import { expect, test } from "vitest";
import { nameOf } from "./StorageDialog";

test.each([
  ["/media/raid", "Raid"],
  ["/home/noa/Films 1973/", "Films 1973"],
  ["/", "This machine"],
])("the folder %s suggests the name %s", (path, name) => {
  expect(nameOf(path)).toBe(name);
});
