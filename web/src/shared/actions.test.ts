import { describe, expect, test, vi } from "vitest";
import { type Action, ActionBook, matching } from "./actions";

const action = (name: string, more: Partial<Action> = {}): Action => ({ name, run: vi.fn(), ...more });
const usual = { areOn: true, own: {} };
const off = { areOn: false, own: {} };

describe("the book of actions", () => {
  test("has what all places say that can be done now", () => {
    const book = new ActionBook();
    let isOpen = false;
    book.set("page", [action("Go to sheets"), action("Never", { enabled: false })]);
    book.set("sheet", [action("Close", { enabled: () => isOpen })]);
    expect(book.all().map(({ name }) => name)).toEqual(["Go to sheets"]);
    isOpen = true;
    expect(book.all().map(({ name }) => name)).toEqual(["Go to sheets", "Close"]);
    book.remove("page");
    expect(book.all().map(({ name }) => name)).toEqual(["Close"]);
  });

  test("gives a key to the first action that can be done", () => {
    const book = new ActionBook();
    book.set("sheet", [
      action("Hold", { key: "h", enabled: false }),
      action("Help", { key: "h" }),
      action("Close", { key: "Escape" }),
    ]);
    expect(book.byKey("h", usual)?.name).toBe("Help");
    expect(book.byKey("x", usual)).toBeUndefined();
  });

  test("leaves single keys alone where they are switched off, but not those that are no letters", () => {
    const book = new ActionBook();
    book.set("sheet", [action("Hold", { key: "h" }), action("Close", { key: "Escape" }), action("Go", { key: " " })]);
    expect(book.byKey("h", off)).toBeUndefined();
    expect(book.byKey("Escape", off)?.name).toBe("Close");
    expect(book.byKey(" ", off)?.name).toBe("Go");
  });

  test("forgets what a place said before", () => {
    const book = new ActionBook();
    book.set("sheet", [action("Run", { key: "R" })]);
    book.set("sheet", [action("Cancel", { key: "c" })]);
    expect(book.byKey("R", usual)).toBeUndefined();
    expect(book.byKey("c", usual)?.name).toBe("Cancel");
  });
});

test("actions are found by words in any order", () => {
  const actions = ["Run the sheet", "Run the chosen outputs", "Remove the sheet"].map((name) => action(name));
  const found = (typed: string) => matching(actions, typed).map(({ name }) => name);
  expect(found("sheet run")).toEqual(["Run the sheet"]);
  expect(found("  THE  ")).toHaveLength(3);
  expect(found("run away")).toEqual([]);
});
