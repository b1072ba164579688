import { expect, test } from "vitest";
import type { Decision, Section } from "../api/client";
import { costOf, costWords, decidedBy, mendingSections, mostChanged, seen } from "./mending";

const section = (name: string, ...places: string[]) =>
  ({ name, settings: places.map((place) => ({ place, name: place })) }) as unknown as Section;

test("a group shows the decisions that its settings change", () => {
  const decisions = ["container", "fields", "speed", "frame_rate", "sound"].map(
    (subject) => ({ subject, what: subject }) as Decision,
  );
  expect(decidedBy("Time", decisions).map(({ subject }) => subject)).toEqual(["speed", "frame_rate"]);
  expect(decidedBy("Fields and film", decisions)).toHaveLength(1);
  expect(decidedBy("Format", decisions)).toEqual([]);
});

test("what belongs to presets, or has a place of its own, is not offered for mending", () => {
  const offered = mendingSections([
    section("Format", "container"),
    section("Frame", "picture.size", "picture.crop"),
    section("Audio", "sound.codec", "sound.channels"),
  ]);
  expect(offered.map(({ settings }) => settings.map(({ place }) => place))).toEqual([
    ["picture.size"],
    ["sound.channels"],
  ]);
});

test("each group opens with what is changed most", () => {
  expect(mostChanged(section("Cleaning", "picture.cleaning.deblock", "picture.cleaning.denoise"))?.place).toBe(
    "picture.cleaning.denoise",
  );
  expect(mostChanged(section("Frame", "picture.size"))?.place).toBe("picture.size");
  // Where it means nothing for a source, the first that does stands in its place.
  expect(mostChanged(section("Cleaning", "picture.cleaning.deblock"))?.place).toBe("picture.cleaning.deblock");
  expect(mostChanged(section("Frame"))).toBeUndefined();
});

test("only what one picture can show is asked for as its look", () => {
  expect(seen({ picture: { fields: "always" } })).toBeNull();
  expect(seen({ picture: { greyscale: true, fields: "always" } })).toEqual({ picture: { greyscale: true } });
});

test("what a group costs is the sum of what its steps take, and is not told where it is next to nothing", () => {
  const costs = [
    { subject: "cleaning" as const, share: 0.4 },
    { subject: "frame_rate" as const, share: 0.07 },
    { subject: "speed" as const, share: 0.005 },
  ];
  expect(costWords(costOf("Cleaning", costs))).toBe("≈ 40 % of its time");
  expect(costOf("Time", costs)).toBeCloseTo(0.075);
  expect(costWords(costOf("Overlays", costs))).toBe("");
  expect(costWords(0.01)).toBe("");
});
