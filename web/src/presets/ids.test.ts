import { expect, test } from "vitest";
import type { PresetItem } from "../api/client";
import { freeId, idFrom } from "./ids";

test("a name becomes an id that presets can have", () => {
  expect(idFrom("Web 1080, CRF 18")).toBe("web-1080-crf-18");
  expect(idFrom("— Größe —")).toBe("gr-e");
  expect(idFrom(`${"x".repeat(63)} y`)).toBe("x".repeat(63));
});

test("an id is never one that another preset has", () => {
  const taken = ["web", "web-2", "a".repeat(64)].map((id) => ({ preset: { id } }) as PresetItem);
  expect(freeId("own", taken)).toBe("own");
  expect(freeId("web", taken)).toBe("web-3");
  expect(freeId("a".repeat(64), taken)).toBe(`${"a".repeat(62)}-2`);
});
