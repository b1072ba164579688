/** Timecode as SMPTE ST 12-1 counts it, from the source's own start where it has one. */
import type { Reading } from "../api/client";
import { fraction } from "./words";

/** How the frames of a source are counted. */
export interface Count {
  /** Frames a second, the mean where they vary. */
  rate: number;
  /** The number of the first frame. */
  start: number;
  /** Whether numbers are dropped, so that the count keeps up with the clock. */
  drops: boolean;
}

const USUAL_RATE = 25;
const FORM = /^(\d{1,2}):(\d{2}):(\d{2})([:;.,])(\d{2,3})$/;

/** Frames counted from nought. */
export function fromNought(rate: number): Count {
  return { rate, start: 0, drops: false };
}

/** The count of a source: its own timecode, where it has one that fits its rate. */
export function countOf(reading: Reading | null | undefined): Count {
  const pictures = (reading?.streams ?? []).flatMap(({ content }) =>
    content.kind === "picture" && content.frame_rate ? [content] : [],
  );
  const picture = pictures[0];
  const plain = fromNought(picture?.frame_rate ? fraction(picture.frame_rate) : USUAL_RATE);
  const written = FORM.exec(reading?.timecode?.trim() ?? "");
  if (!written || picture?.varies) return plain;
  const own = { ...plain, drops: written[4] !== ":" };
  const start = numberOf(written, own);
  return start === null ? plain : { ...own, start };
}

function whole(count: Count): number {
  return Math.max(1, Math.round(count.rate));
}

/** How many numbers are dropped in a minute: two of thirty, four of sixty. */
function dropped(count: Count): number {
  return count.drops ? Math.round(whole(count) / 15) : 0;
}

/** The number of a frame from what a timecode says; nothing where it names none. */
function numberOf(written: RegExpExecArray, count: Count): number | null {
  const [hours = 0, minutes = 0, seconds = 0] = written.slice(1, 4).map(Number);
  const frames = Number(written[5]);
  const gone = hours * 60 + minutes;
  const least = seconds === 0 && minutes % 10 !== 0 ? dropped(count) : 0;
  if (frames >= whole(count) || frames < least || minutes > 59 || seconds > 59) return null;
  return (gone * 60 + seconds) * whole(count) + frames - dropped(count) * (gone - Math.floor(gone / 10));
}

/** So many frames as HH:MM:SS:FF, with a semicolon where numbers are dropped. */
function text(frames: number, count: Count): string {
  const [each, drop] = [whole(count), dropped(count)];
  const [tenMinutes, minute] = [each * 600 - 9 * drop, each * 60 - drop];
  const [tens, rest] = [Math.floor(frames / tenMinutes), frames % tenMinutes];
  const number = frames + 9 * drop * tens + (rest > drop ? drop * Math.floor((rest - drop) / minute) : 0);
  const two = (value: number) => String(Math.floor(value)).padStart(2, "0");
  const seconds = Math.floor(number / each);
  return `${two((seconds / 3600) % 24)}:${two((seconds / 60) % 60)}:${two(seconds % 60)}${count.drops ? ";" : ":"}${two(number % each)}`;
}

/** The timecode of a moment, in seconds from the first frame. */
export function timecodeText(seconds: number, count: Count): string {
  return text(count.start + Math.round(Math.max(0, seconds) * count.rate), count);
}

/** A length of time, counted like timecode. */
export function lengthText(seconds: number, count: Count): string {
  return timecodeText(seconds, { ...count, start: 0 });
}

/**
 * The frame that a timecode names, from nought for the first; nothing where it names none. Timecodes at or behind the
 * source's own start are its own, others count from the first frame. Where the source drops, so does what is typed with colons.
 */
export function frameOfTimecode(typed: string, count: Count): number | null {
  const written = FORM.exec(typed.trim());
  const number = written && numberOf(written, count);
  if (number === null) return null;
  return number >= count.start ? number - count.start : number;
}
