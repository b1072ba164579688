import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { whenLoaded } from "./stills";

/** Pictures that come or do not, as a test says. */
let asked: { src: string; onload: () => void; onerror: () => void }[] = [];

beforeEach(() => {
  asked = [];
  vi.useFakeTimers();
  vi.stubGlobal(
    "Image",
    class {
      src = "";
      onload = () => undefined;
      onerror = () => undefined;
      constructor() {
        asked.push(this);
      }
    },
  );
});

afterEach(() => {
  vi.unstubAllGlobals();
  vi.useRealTimers();
});

test("a still that does not come is asked for again, and is there when it comes", () => {
  const settle = vi.fn();
  whenLoaded("/still", settle);
  asked[0]?.onerror();
  expect(settle).not.toHaveBeenCalled();
  vi.advanceTimersByTime(300);
  expect(asked.map(({ src }) => src)).toEqual(["/still", "/still"]);
  asked[1]?.onload();
  expect(settle.mock.calls).toEqual([[true]]);
});

test("one that never comes is given up, and says so once", () => {
  const settle = vi.fn();
  whenLoaded("/still", settle);
  for (const pause of [300, 1000, 3000]) {
    asked.at(-1)?.onerror();
    vi.advanceTimersByTime(pause);
  }
  expect(settle).not.toHaveBeenCalled();
  asked.at(-1)?.onerror();
  vi.advanceTimersByTime(60_000);
  expect(settle.mock.calls).toEqual([[false]]);
  expect(asked).toHaveLength(4);
});

test("nobody is told what nobody waits for any more, and no more is asked", () => {
  const settle = vi.fn();
  const giveUp = whenLoaded("/still", settle);
  asked[0]?.onerror();
  giveUp();
  vi.advanceTimersByTime(60_000);
  asked[0]?.onload();
  expect(asked).toHaveLength(1);
  expect(settle).not.toHaveBeenCalled();
  // Where another frame is wanted by now, this one is let go at its first refusal.
  whenLoaded("/other", settle, () => false);
  asked[1]?.onerror();
  expect(settle.mock.calls).toEqual([[false]]);
});
