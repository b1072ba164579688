/** In and out: parts of a source, in frames, and what marking does to them. */
import { fraction } from "../shared/words";
import type { Patch } from "../sheets/overrides";
import type { Clock } from "./position";

/** A part: its first frame, and the frame behind its last one. */
export interface Part {
  first: number;
  end: number;
}

/** The parts that are marked, and an in point that has no out yet. */
export interface Marks {
  parts: Part[];
  open: number | null;
}

interface Seconds {
  from: string;
  to: string;
}

/** The parts that are set for all outputs of a source. */
export function partsOf(overrides: Patch, clock: Clock): Part[] {
  const set = (overrides as { parts?: Seconds[] }).parts ?? [];
  // Half a frame farther: times are exact, but frames of varying rate are known to the millisecond.
  const frameAt = (seconds: string) => clock.frameAt(fraction(seconds) + 0.25 / clock.rate);
  return set.map((part) => ({
    first: frameAt(part.from),
    end: fraction(part.to) >= clock.length ? clock.frames : frameAt(part.to),
  }));
}

/** Parts as the server wants them. */
export function secondsOf(parts: Part[], clock: Clock): Seconds[] {
  const exact = (frame: number) =>
    frame < clock.frames ? clock.exactTimeOf(frame) : `${String(Math.round(clock.length * 1000))}/1000`;
  return parts.map((part) => ({ from: exact(part.first), to: exact(part.end) }));
}

/** Parts in order, those that touch as one. */
export function joined(parts: Part[]): Part[] {
  const rest: Part[] = [];
  for (const part of [...parts].sort((one, other) => one.first - other.first)) {
    const last = rest.at(-1);
    if (last && part.first <= last.end) last.end = Math.max(last.end, part.end);
    else if (part.end > part.first) rest.push({ ...part });
  }
  return rest;
}

/** An in point: within a part, it begins there; elsewhere it waits for its out point. */
export function markedIn({ parts }: Marks, frame: number): Marks {
  const inside = parts.findIndex((part) => part.first <= frame && frame < part.end);
  if (inside < 0) return { parts, open: frame };
  return { parts: parts.map((part, place) => (place === inside ? { ...part, first: frame } : part)), open: null };
}

/** An out point, whose frame still belongs to the part. */
export function markedOut({ parts, open }: Marks, frame: number): Marks {
  const end = frame + 1;
  if (open !== null && open < end) return { parts: joined([...parts, { first: open, end }]), open: null };
  const before = parts.findLastIndex((part) => part.first < end);
  if (before >= 0)
    return { parts: joined(parts.map((part, place) => (place === before ? { ...part, end } : part))), open: null };
  return { parts: joined([...parts, { first: 0, end }]), open: null };
}

/** How many frames all parts have. */
export function length(parts: Part[]): number {
  return parts.reduce((sum, part) => sum + part.end - part.first, 0);
}
