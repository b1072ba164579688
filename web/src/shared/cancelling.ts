/** Cancelling: asked first where more than a minute of work would go. */
import { useCallback } from "react";
import type { CellRun } from "../api/client";
import { useAsk } from "./messages";
import { plural, spanText } from "./words";

/** Work that may go without a question, in seconds. */
const LITTLE = 60;

/** Seconds of work that would go with these runs. */
export function workIn(runs: Pick<CellRun, "state" | "started">[], now: number): number {
  const worked = runs
    .filter((run) => run.state === "running" || run.state === "paused" || run.state === "checking")
    .map((run) => (run.started ? Math.max(0, (now - new Date(run.started).getTime()) / 1000) : 0));
  return Math.max(0, ...worked);
}

/** Asks before work is thrown away; answers whether it may be. */
export function useMayCancel(): (runs: Pick<CellRun, "state" | "started">[]) => Promise<boolean> {
  const ask = useAsk();
  return useCallback(
    async (runs) => {
      const work = workIn(runs, Date.now());
      if (work <= LITTLE) return true;
      return ask({
        title: `Cancel ${plural(runs.length, "output")}?`,
        text: `${spanText(work)} of work would be lost: what was made so far cannot be used.`,
        yes: "Cancel the work",
        no: "Let it go on",
      });
    },
    [ask],
  );
}
