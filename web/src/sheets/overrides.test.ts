import { describe, expect, test } from "vitest";
import type { Patch, Preset } from "../api/client";
import { patchAfter, patchToPreset, patchWithout, presetWith } from "./overrides";

const crop: Patch = { picture: { crop: { rule: "by_hand", left: 2, top: 2, right: 2, bottom: 2 }, greyscale: true } };

describe("patches over one another", () => {
  test("what is set later holds, and the rest stays", () => {
    expect(patchAfter(crop, { picture: { greyscale: false } })).toEqual({
      picture: { ...crop.picture, greyscale: false },
    });
    expect(patchAfter(crop, {})).toEqual(crop);
  });

  test("another form of a rule takes nothing of the old one along", () => {
    expect(patchAfter(crop, { picture: { crop: { rule: "bars" } } })).toEqual({
      picture: { crop: { rule: "bars" }, greyscale: true },
    });
  });

  test("the same form keeps what is not said anew", () => {
    const rate: Patch = { picture: { rate: { mode: "average", bits_per_second: 8e6, passes: 2 } } };
    expect(patchAfter(rate, { picture: { rate: { bits_per_second: 4e6 } } })).toEqual({
      picture: { rate: { mode: "average", bits_per_second: 4e6, passes: 2 } },
    });
  });

  test("what is taken away leaves no empty shells", () => {
    expect(patchWithout(crop, { picture: { crop: null } })).toEqual({ picture: { greyscale: true } });
    expect(patchWithout(crop, crop)).toEqual({});
    expect(patchWithout(crop, { sound: null })).toEqual(crop);
  });

  test("a patch to another preset makes that preset, but for the names of files", () => {
    const column = {
      id: "one",
      name: "One",
      container: "mp4",
      name_pattern: "<name>_one",
      picture: null,
    } as unknown as Preset;
    const wanted = {
      id: "two",
      name: "Two",
      container: "mov",
      name_pattern: "<name>_two",
      picture: null,
    } as unknown as Preset;
    const patch = patchToPreset(column, wanted);
    expect(patch).toEqual({ id: "two", name: "Two", container: "mov" });
    expect(presetWith(column, patch)).toEqual({ ...wanted, name_pattern: "<name>_one" });
  });
});
