/** Where the bench stands in a source: frames, seconds and timecode. */
import type { Curves, Reading } from "../api/client";
import { type Count, countOf } from "../shared/timecode";
import { fraction } from "../shared/words";

const USUAL_RATE = "25";

/** The clock of a source: its frames and when they are shown, in seconds from the first one. */
export interface Clock {
  /** Frames a second, the mean where they vary. */
  rate: number;
  /** How frames are counted for people: from the source's own timecode where it has one. */
  count: Count;
  /** Seconds. */
  length: number;
  /** The frame that is shown at a moment. */
  frameAt: (seconds: number) => number;
  /** When a frame is shown. */
  timeOf: (frame: number) => number;
  /** The same as an exact fraction, as the server wants it. */
  exactTimeOf: (frame: number) => string;
  frames: number;
  /** The frame so many seconds on, counted as timecode does where the rate is constant. */
  secondsOn: (frame: number, seconds: number) => number;
}

/** The exact rate of a source that has a constant one. */
function exactRate(reading: Reading | null | undefined): { rate: string; varies: boolean } {
  for (const { content } of reading?.streams ?? []) {
    if (content.kind === "picture" && content.frame_rate) return { rate: content.frame_rate, varies: content.varies };
  }
  return { rate: USUAL_RATE, varies: false };
}

export function clockOf(reading: Reading | null | undefined, curves: Curves | undefined): Clock {
  const { rate, varies } = exactRate(reading);
  const perSecond = fraction(rate);
  const length = reading?.duration ? fraction(reading.duration) : 0;
  const times = curves?.frames ?? [];
  if (varies && times.length > 0) {
    const frameAt = (seconds: number) => Math.max(0, lastNotAfter(times, seconds * 1000 + 0.5));
    const timeOf = (frame: number) => (times[clamp(frame, 0, times.length - 1)] ?? 0) / 1000;
    const secondsOn = (frame: number, seconds: number) => clamp(frameAt(timeOf(frame) + seconds), 0, times.length - 1);
    return {
      rate: perSecond,
      count: countOf(reading),
      length,
      frames: times.length,
      frameAt,
      timeOf,
      secondsOn,
      exactTimeOf: (frame) => `${String(Math.round(timeOf(frame) * 1000))}/1000`,
    };
  }
  const [above = "25", below = "1"] = rate.split("/");
  const frames = Math.max(1, Math.round(length * perSecond));
  return {
    rate: perSecond,
    count: countOf(reading),
    length,
    frames,
    frameAt: (seconds) => clamp(Math.floor(seconds * perSecond + 1e-6), 0, frames - 1),
    timeOf: (frame) => frame / perSecond,
    exactTimeOf: (frame) => `${String(frame * Number(below))}/${above}`,
    secondsOn: (frame, seconds) => clamp(frame + seconds * Math.max(1, Math.round(perSecond)), 0, frames - 1),
  };
}

/** The highest speed, by the pace of the source. */
const FASTEST = 8;

/** The speed after another press in a direction: faster that way, or slower where it went the other one. */
export function shuttled(speed: number, direction: 1 | -1): number {
  const along = speed * direction;
  if (along < -1) return speed / 2;
  if (along <= 0) return direction;
  return Math.min(along * 2, FASTEST) * direction;
}

export function clamp(value: number, least: number, most: number): number {
  return Math.min(Math.max(value, least), most);
}

/** The place of the last of rising values that is not above `value`; −1 where all are. */
export function lastNotAfter(values: number[], value: number): number {
  let [low, high] = [0, values.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((values[middle] ?? 0) <= value) low = middle + 1;
    else high = middle;
  }
  return low - 1;
}
