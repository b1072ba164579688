/** What of the mending of a source is shown in its pictures. */
import type { Patch, Section } from "../api/client";
import { valueAt, withValue } from "../catalogue/catalogue";

/** Sections of the catalogue that mend a source for all its outputs; the rest belongs to presets. */
const MENDING = ["Frame", "Time", "Fields and film", "Cleaning", "Colour", "Overlays", "Audio"];
/** Settings in them that belong to a preset as well, or have a place of their own on the bench. */
const ELSEWHERE = [
  "parts",
  "picture.crop",
  "sound.codec",
  "sound.bits_per_second",
  "sound.sample_rate",
  "sound.streams",
];

/** What is offered for all outputs of a source. */
export function mendingSections(catalogue: Section[]): Section[] {
  const sections = catalogue.filter((section) => MENDING.includes(section.name));
  return sections.map((section) => ({
    ...section,
    settings: section.settings.filter((setting) => !ELSEWHERE.includes(setting.place)),
  }));
}

/** What of a patch can be seen in a single picture. */
export function seen(overrides: Patch): Patch | null {
  const shown = ["picture.colour", "picture.adjustment", "picture.greyscale", "picture.overlays.watermark"];
  const look = shown.reduce<Patch>((look, place) => {
    const value = valueAt(overrides, place);
    return value === undefined ? look : withValue(look, place, value);
  }, {});
  return Object.keys(look).length > 0 ? look : null;
}
