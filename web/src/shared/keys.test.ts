import { describe, expect, test } from "vitest";
import { ActionBook } from "./actions";
import { keyFor, keyName, pressedKey } from "./keys";

describe("a key that was pressed", () => {
  test.each([
    ["r", false, "r"],
    ["R", true, "R"],
    // With Caps Lock on.
    ["R", false, "r"],
    ["r", true, "R"],
    ["?", true, "?"],
    ["+", false, "+"],
    [" ", false, " "],
    ["ArrowUp", false, "ArrowUp"],
    ["ArrowUp", true, "Shift+ArrowUp"],
  ])("%s, Shift %s, is %s", (key, shiftKey, expected) => {
    expect(pressedKey({ key, shiftKey })).toBe(expected);
  });

  test.each([
    ["r", "R"],
    ["R", "Shift + R"],
    [" ", "Space"],
    ["Shift+ArrowUp", "Shift + ↑"],
    ["Escape", "Esc"],
    ["?", "?"],
  ])("%s is shown as %s", (key, expected) => {
    expect(keyName(key)).toBe(expected);
  });
});

describe("keys that somebody has changed", () => {
  const run = { name: "Run the sheet", key: "R", run: () => undefined };
  const retry = { name: "Retry", key: "r", enabled: false, run: () => undefined };

  test("an action has its own key, the changed one, or none", () => {
    expect(keyFor({ areOn: true, own: {} }, run)).toBe("R");
    expect(keyFor({ areOn: true, own: { "Run the sheet": "g" } }, run)).toBe("g");
    expect(keyFor({ areOn: true, own: { "Run the sheet": "" } }, run)).toBeUndefined();
  });

  test("single keys can be switched off; keys that name what they do stay", () => {
    const book = new ActionBook();
    const close = { name: "Close the slip", key: "Escape", run: () => undefined };
    book.set("sheet", [run, retry, close]);
    expect(book.byKey("R", { areOn: true, own: {} })).toBe(run);
    expect(book.byKey("r", { areOn: true, own: {} })).toBeUndefined();
    expect(book.byKey("g", { areOn: true, own: { "Run the sheet": "g" } })).toBe(run);
    expect(book.byKey("R", { areOn: true, own: { "Run the sheet": "g" } })).toBeUndefined();
    expect(book.byKey("R", { areOn: false, own: {} })).toBeUndefined();
    expect(book.byKey("Escape", { areOn: false, own: {} })).toBe(close);
  });
});
