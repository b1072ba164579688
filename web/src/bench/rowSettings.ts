/** What is set for all outputs of a source: shown at once, kept by the server. */
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Bench } from "../api/client";
import { keys } from "../api/live";
import { useTell } from "../shared/messages";
import type { Patch } from "../sheets/overrides";

export interface RowSettings {
  overrides: Patch;
  /** Sets other ones, which can be taken back; what is worth it is told as well. */
  set: (next: Patch, words: string, isTold?: boolean) => void;
}

export function useRowSettings(sheet: string, bench: Bench): RowSettings {
  const client = useQueryClient();
  const { tell, step, refuse } = useTell();
  // What is on its way to the server is shown until the server answers with it.
  const [unsaved, setUnsaved] = useState<Patch | null>(null);
  const overrides = unsaved ?? bench.overrides ?? {};
  const source = bench.source.id;
  /** Answers what was set before, as the server had it. */
  const save = async (next: Patch): Promise<Patch> => {
    setUnsaved(next);
    try {
      const [before] = await api.setRows(sheet, [source], next);
      await client.invalidateQueries({ queryKey: keys.bench(sheet, source) });
      void client.invalidateQueries({ queryKey: ["output", source] });
      return before?.overrides ?? {};
    } finally {
      setUnsaved((now) => (now === next ? null : now));
    }
  };
  const set = (next: Patch, words: string, isTold = false) => {
    save(next)
      .then((before) => {
        (isTold ? tell : step)(words, () => save(before));
      })
      .catch(refuse);
  };
  return { overrides, set };
}
