/** What can be mended for all outputs of a source, and how that is chosen in the page. */
import type { Aid, Reading } from "../api/client";
import { type Patch, patchAfter, patchWithout } from "../sheets/overrides";

/** One way that can be chosen: its words, and what it sets. */
export interface Way {
  words: string;
  value: unknown;
}

/** A setting, by its place in a preset. */
export interface Setting {
  name: string;
  place: string[];
  ways: Way[];
}

export interface Section {
  name: string;
  settings: Setting[];
}

const rate = (words: string, exact: string, by = "drop_repeat"): Way => ({ words, value: { rule: "constant", rate: exact, by } });
const decibels = (...levels: number[]): Way[] => levels.map((level) => ({ words: `${level > 0 ? "+" : ""}${String(level).replace("-", "−")} dB`, value: level }));
const toRate = (words: string, exact: string): Way => ({ words, value: { rule: "to_rate", rate: exact } });

/** The settings that are offered for a source. */
export function sections(reading: Reading | null | undefined, aids: Aid[]): Section[] {
  const tables = aids.filter((aid) => aid.kind === "lut").map((aid) => ({ words: aid.name, value: aid.name }));
  const marks = aids.filter((aid) => aid.kind === "picture");
  const spoken = (reading?.streams ?? []).filter((stream) => stream.content.kind === "subtitles" && !stream.content.are_pictures);
  const sounds = (reading?.streams ?? []).flatMap((stream) => (stream.content.kind === "sound" ? [stream.content.channels] : []));
  const languages = [...new Set(spoken.map((stream) => stream.language).filter((language) => language != null))];
  return [
    {
      name: "Fields and film",
      settings: [
        { name: "Fields", place: ["picture", "fields"], ways: [{ words: "kept", value: "keep" }, { words: "deinterlaced when needed", value: "when_needed" }, { words: "deinterlaced always", value: "always" }] },
        { name: "Which frames", place: ["picture", "deinterlacing", "frames"], ways: [{ words: "those that show combing", value: "combed" }, { words: "every one", value: "all" }] },
        { name: "What comes of each", place: ["picture", "deinterlacing", "per"], ways: [{ words: "one frame", value: "frame" }, { words: "one frame for each field", value: "field" }] },
        { name: "How", place: ["picture", "deinterlacing", "degree"], ways: [{ words: "the quick way, for proxies", value: "proxy" }, { words: "along edges, for delivery", value: "delivery" }] },
        { name: "Film", place: ["picture", "telecine"], ways: [{ words: "treated as video", value: "never" }, { words: "brought back when found", value: "when_needed" }, { words: "brought back always", value: "always" }] },
        { name: "Film and video mixed", place: ["picture", "mixture"], ways: [{ words: "at the video's rate", value: "video_rate" }, { words: "at the film's rate", value: "film_rate" }, { words: "each at its own", value: "variable" }] },
      ],
    },
    {
      name: "Cleaning",
      settings: [
        { name: "Noise", place: ["picture", "cleaning", "denoise"], ways: [{ words: "left", value: "off" }, { words: "fine noise of cameras", value: "camera" }, { words: "tapes and grain", value: "tape" }, { words: "dark and strong noise", value: "night" }] },
        { name: "Coding blocks", place: ["picture", "cleaning", "deblock"], ways: [{ words: "left", value: "off" }, { words: "smoothed in flat parts", value: "flat_parts" }, { words: "smoothed everywhere", value: "whole_picture" }] },
      ],
    },
    {
      name: "Colour",
      settings: [
        { name: "Look-up table", place: ["picture", "colour", "lut"], ways: tables },
        { name: "High dynamic range", place: ["picture", "colour", "dynamic_range"], ways: [{ words: "kept from 10 bit on", value: "when_needed" }, { words: "kept", value: "keep" }, { words: "brought to standard", value: "standard" }] },
        { name: "Colour space", place: ["picture", "colour", "space"], ways: [{ words: "as the source", value: "same" }, { words: "Rec. 709", value: "rec709" }, { words: "Rec. 601, 625 lines", value: "rec601_625" }, { words: "Rec. 601, 525 lines", value: "rec601_525" }] },
        { name: "Range", place: ["picture", "colour", "range"], ways: [{ words: "limited", value: "limited" }, { words: "full", value: "full" }, { words: "as the source", value: "same" }] },
        { name: "Greyscale", place: ["picture", "greyscale"], ways: [{ words: "colour kept", value: false }, { words: "all colour taken out", value: true }] },
      ],
    },
    {
      name: "Size, rate and speed",
      settings: [
        {
          name: "Frame size",
          place: ["picture", "size"],
          ways: [
            { words: "as the source", value: { rule: "same" } },
            { words: "1080 lines", value: { rule: "height", height: 1080, enlarge: false } },
            { words: "720 lines", value: { rule: "height", height: 720, enlarge: false } },
            { words: "half", value: { rule: "fraction", of: "1/2" } },
            { words: "1920×1080, bars where it has another shape", value: { rule: "pad", width: 1920, height: 1080, enlarge: false } },
            { words: "1920×1080, bars, enlarged to it", value: { rule: "pad", width: 1920, height: 1080, enlarge: true } },
            { words: "1920×1080, filled", value: { rule: "fill", width: 1920, height: 1080, enlarge: false } },
            { words: "1920×1080, filled, enlarged to it", value: { rule: "fill", width: 1920, height: 1080, enlarge: true } },
          ],
        },
        { name: "Pixels", place: ["picture", "pixel_aspect"], ways: [{ words: "made square", value: "square" }, { words: "kept as they are", value: "keep" }, { words: "set to 16:15", value: { set: "16/15" } }, { words: "set to 64:45", value: { set: "64/45" } }, { words: "set to 8:9", value: { set: "8/9" } }] },
        {
          name: "Frame rate",
          place: ["picture", "frame_rate"],
          ways: [
            { words: "as the source, constant", value: { rule: "same" } },
            { words: "as the source, variable kept", value: { rule: "keep_variable" } },
            rate("25, frames repeated or dropped", "25"),
            rate("25, neighbours mixed", "25", "blend"),
            rate("25, drawn along the motion", "25", "motion"),
            rate("29.97, frames repeated or dropped", "30000/1001"),
            rate("29.97, neighbours mixed", "30000/1001", "blend"),
            rate("50, drawn along the motion", "50", "motion"),
          ],
        },
        { name: "Speed", place: ["picture", "speed"], ways: [{ words: "as the source", value: { rule: "same" } }, toRate("so that its frames fall on 24", "24"), toRate("so that its frames fall on 25", "25"), toRate("so that its frames fall on 29.97", "30000/1001"), { words: "104 %", value: { rule: "percent", percent: "104" } }, { words: "96 %", value: { rule: "percent", percent: "96" } }] },
      ],
    },
    ...(sounds.length > 0 ? [sound(Math.max(...sounds))] : []),
    {
      name: "Laid over",
      settings: [
        {
          name: "Watermark",
          place: ["picture", "overlays", "watermark"],
          ways: marks.flatMap((mark) =>
            (["bottom_right", "bottom_left", "top_right", "top_left", "middle"] as const).map((corner) => ({ words: `${mark.name}, ${corner.replace("_", " ")}`, value: { picture: mark.name, place: corner, width: 15, margin: 3, opacity: 70 } })),
          ),
        },
        {
          name: "Text",
          place: ["picture", "overlays", "burn_in"],
          ways: [
            { words: "none", value: { timecode: false, name: false, frame: false } },
            { words: "timecode", value: { timecode: true, name: false, frame: false } },
            { words: "timecode and name", value: { timecode: true, name: true, frame: false } },
            { words: "timecode, name and frame", value: { timecode: true, name: true, frame: true } },
          ],
        },
        { name: "Subtitles", place: ["picture", "overlays", "subtitles"], ways: spoken.length === 0 ? [] : [{ words: "none", value: { rule: "never" } }, { words: "the first", value: { rule: "first" } }, ...languages.map((language) => ({ words: language, value: { rule: "language", language } }))] },
      ],
    },
  ];
}

/** What can be set of sound of so many channels. */
function sound(channels: number): Section {
  const mixed: Setting[] = [
    { name: "Centre, mixed down", place: ["sound", "downmix", "centre"], ways: decibels(0, -3, -6) },
    { name: "Surrounds, mixed down", place: ["sound", "downmix", "surrounds"], ways: decibels(0, -3, -6, -9) },
    { name: "LFE, mixed down", place: ["sound", "downmix", "lfe"], ways: [{ words: "left out", value: null }, ...decibels(0, -3, -6, -10)] },
    { name: "Level of the mix", place: ["sound", "downmix", "level"], ways: decibels(6, 3, 0, -3, -6) },
  ];
  return {
    name: "Sound",
    settings: [
      { name: "Channels", place: ["sound", "channels"], ways: [{ words: "as the source", value: "same" }, { words: "stereo", value: "stereo" }, { words: "mono", value: "mono" }] },
      ...(channels > 2 ? mixed : []),
      { name: "Pitch at another speed", place: ["sound", "pitch"], ways: [{ words: "kept", value: "keep" }, { words: "follows the speed", value: "follow" }] },
    ],
  };
}

/** The value that a patch sets at a place; nothing where it sets none. */
export function valueAt(overrides: Patch, place: string[]): unknown {
  let value: unknown = overrides;
  for (const name of place) {
    if (typeof value !== "object" || value === null) return undefined;
    value = (value as Patch)[name];
  }
  return value;
}

/** Which of the ways is set; −1 for none, −2 for one that is not offered. */
export function chosenWay(overrides: Patch, setting: Setting): number {
  const value = valueAt(overrides, setting.place);
  if (value === undefined) return -1;
  const found = setting.ways.findIndex((way) => sameValue(way.value, value));
  return found < 0 ? -2 : found;
}

function sameValue(one: unknown, other: unknown): boolean {
  if (typeof one !== "object" || one === null || typeof other !== "object" || other === null) return one === other;
  return Object.entries(one).every(([name, value]) => sameValue(value, (other as Patch)[name]));
}

function at(place: string[], value: unknown): Patch {
  return place.reduceRight<unknown>((inner, name) => ({ [name]: inner }), value) as Patch;
}

/** The patch with a value at a place, or with none there. */
export function withValue(overrides: Patch, place: string[], value: unknown): Patch {
  const others = patchWithout(overrides, at(place, null));
  return value === undefined ? others : patchAfter(others, at(place, value));
}

/** What of a patch can be seen in a single picture. */
export function seen(overrides: Patch): Patch | null {
  const look: Patch = {};
  for (const name of ["colour", "adjustment", "greyscale"]) {
    const value = valueAt(overrides, ["picture", name]);
    if (value !== undefined) look[name] = value;
  }
  const mark = valueAt(overrides, ["picture", "overlays", "watermark"]);
  if (mark !== undefined) look.overlays = { watermark: mark };
  return Object.keys(look).length > 0 ? { picture: look } : null;
}

/** Levels, in the order in which they are shown: their names, ends and what changes nothing. */
export const LEVELS: { name: "brightness" | "contrast" | "gamma" | "saturation"; least: number; most: number; usual: number }[] = [
  { name: "brightness", least: -50, most: 50, usual: 0 },
  { name: "contrast", least: 50, most: 200, usual: 100 },
  { name: "gamma", least: 50, most: 200, usual: 100 },
  { name: "saturation", least: 0, most: 200, usual: 100 },
];
