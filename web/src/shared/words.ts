/** Figures and states in words. */
import type { CellRun, Progress, RunState } from "../api/client";

/** Decimal sizes with three figures: `98 MB`, `1.25 GB`. */
export function sizeText(bytes: number): string {
  let value = bytes;
  let unit = "B";
  for (const next of ["kB", "MB", "GB", "TB"]) {
    if (value < 999.5) break;
    value /= 1000;
    unit = next;
  }
  const decimals = unit === "B" || value >= 99.95 ? 0 : value >= 9.995 ? 1 : 2;
  return `${value.toFixed(decimals)} ${unit}`;
}

/** What is saved, as −98 %, or what is added, as +40 %, and ×3.5 from double on. */
export function changeText(before: number, after: number): string {
  if (before <= 0) return "";
  const factor = after / before;
  if (factor >= 2) return `×${factor.toFixed(factor < 10 ? 1 : 0)}`;
  const percent = Math.round((factor - 1) * 100);
  if (percent === 0) return "same size";
  // A file is never saved as a whole.
  return percent > 0 ? `+${String(percent)} %` : `−${String(Math.min(99, -percent))} %`;
}

/** A span of time as 0:48 or 1:02:10. */
export function spanText(seconds: number): string {
  const whole = Math.max(0, Math.round(seconds));
  const two = (value: number) => String(value).padStart(2, "0");
  const minutes = Math.floor(whole / 60) % 60;
  const hours = Math.floor(whole / 3600);
  return hours > 0 ? `${String(hours)}:${two(minutes)}:${two(whole % 60)}` : `${String(minutes)}:${two(whole % 60)}`;
}

/** The house's time zone, once it is known; that of this browser before. */
let houseZone: string | undefined;

export function setHouseZone(zone: string | undefined): void {
  houseZone = zone;
}

/** The clock of the house at a moment, as 03:40. */
export function clockText(at: Date, seconds = false): string {
  return at.toLocaleTimeString([], {
    hour: "2-digit",
    minute: "2-digit",
    ...(seconds && { second: "2-digit" }),
    hour12: false,
    timeZone: houseZone,
  });
}

/** A day and its clock in the house, as 28 Nov, 03:40. */
export function dayText(at: Date): string {
  return `${at.toLocaleDateString("en-GB", { day: "numeric", month: "short", timeZone: houseZone })}, ${clockText(at)}`;
}

export function plural(count: number, noun: string): string {
  return `${String(count)} ${noun}${count === 1 ? "" : "s"}`;
}

const STATE_WORDS: Record<RunState, string> = {
  waiting: "waiting",
  running: "running",
  paused: "held",
  checking: "checking",
  done: "done, checked",
  failed: "failed",
  cancelled: "cancelled",
  withheld: "withheld",
};

export function stateWord(state: RunState): string {
  return STATE_WORDS[state];
}

/** Whether something still happens to the run. */
export function isOpen(run: CellRun | null | undefined): run is CellRun {
  return (
    run != null &&
    (run.state === "waiting" || run.state === "running" || run.state === "paused" || run.state === "checking")
  );
}

/** An exact fraction such as 30000/1001 as a number. */
export function fraction(text: string): number {
  const [above = "0", below = "1"] = text.split("/");
  return Number(above) / Number(below);
}

/** How far a run is, in a few words: “43 % · 2 min left”, “analysing, 12 %”, “reading back, 20 %”. */
export function progressText(progress: Progress | null | undefined): string {
  const percent = (part: number) => `${String(Math.floor(part * 100))} %`;
  if (progress?.read_back != null) return `reading back, ${percent(progress.read_back)}`;
  const left = progress?.remaining == null ? "" : ` · ${spanText(progress.remaining)} left`;
  const task = progress?.task === "analyse" ? "analysing, " : "";
  return `${task}${percent(progress?.fraction ?? 0)}${left}`;
}
