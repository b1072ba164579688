/** Telling what happened, from anywhere on the page. */
import { createContext, useContext, useMemo } from "react";
import { type Problem, Refusal } from "../api/client";

export interface Message {
  text: string;
  kind: "told" | "failed";
  problem?: Problem;
  /** Takes it back. */
  undo?: () => Promise<unknown>;
}

export const TellContext = createContext<(message: Message) => void>(() => undefined);

export function useTell() {
  const tell = useContext(TellContext);
  return useMemo(() => ({
    tell: (text: string, undo?: () => Promise<unknown>) => {
      tell(undo ? { text, kind: "told", undo } : { text, kind: "told" });
    },
    refuse: (error: unknown) => {
      if (error instanceof Refusal) tell({ text: error.message, kind: "failed", problem: error.problem });
      else tell({ text: String(error), kind: "failed" });
    },
  }), [tell]);
}
