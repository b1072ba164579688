/** What of the mending of a source is shown in its pictures. */
import type { Decision, Patch, Section, Setting, SubjectCost } from "../api/client";
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
  "sound.tracks",
];

/** What the plan says that belongs to a section. */
const SUBJECTS: Partial<Record<string, readonly Decision["subject"][]>> = {
  Frame: ["size", "rotation", "crop"],
  Time: ["frame_rate", "speed"],
  "Fields and film": ["fields"],
  Cleaning: ["cleaning"],
  Colour: ["colour"],
  Overlays: ["overlays"],
  Audio: ["sound"],
};

/** What is changed most in a section that does not begin with it. */
const MOST: Partial<Record<string, string>> = {
  Cleaning: "picture.cleaning.denoise",
  Colour: "picture.adjustment.brightness",
  Overlays: "picture.overlays.burn_in.timecode",
  Audio: "sound.channels",
};

/** The decisions of a plan that settings of a section change. */
export function decidedBy(section: string, decisions: Decision[]): Decision[] {
  const subjects = SUBJECTS[section] ?? [];
  return decisions.filter((decision) => subjects.includes(decision.subject));
}

/** What of an output's time the steps of a section take, 0 to 1. */
export function costOf(section: string, costs: SubjectCost[]): number {
  const subjects = SUBJECTS[section] ?? [];
  return costs.filter(({ subject }) => subjects.includes(subject)).reduce((sum, { share }) => sum + share, 0);
}

/** “≈ 18 % of its time”; nothing where it is hardly any. */
export function costWords(share: number): string {
  return share < 0.02 ? "" : `≈ ${(share * 100).toFixed(0)} % of its time`;
}

/** The setting of a section that is changed most. */
export function mostChanged(section: Section): Setting | undefined {
  return section.settings.find((setting) => setting.place === MOST[section.name]) ?? section.settings[0];
}

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
