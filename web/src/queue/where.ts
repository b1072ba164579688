/** Where a run is, in a few words. */
import type { QueueItem, Storage } from "../api/client";
import { reachText } from "../shared/storages";
import { progressText, sizeText, stateWord } from "../shared/words";

/** Where a run is, and for what it waits: `before` others are to be begun before it. */
export function where({ run }: QueueItem, before: number, storages: Storage[]): string {
  switch (run.state) {
    case "running":
      if (run.progress?.read_back != null) return progressText(run.progress);
      // No figure before there is one.
      if (!run.progress || run.progress.fraction === 0) return "starting";
      return `${run.progress.task === "analyse" ? "analysing, " : ""}${String(Math.floor(run.progress.fraction * 100))} %`;
    case "done":
      return `${sizeText(run.size ?? 0)}, checked`;
    case "withheld":
    case "failed":
    case "cancelled":
      return run.problem?.why ?? stateWord(run.state);
    case "waiting": {
      const storage = storages.find((one) => one.id === run.storage);
      const away = storage ? reachText(storage) : "";
      if (storage && away) return `waiting: ${storage.name} is ${away}`;
      return before > 0 ? `waiting, ${String(before)} before it` : "next";
    }
    case "paused":
    case "checking":
      return stateWord(run.state);
  }
}
