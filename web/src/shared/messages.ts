/** Telling what happened, from anywhere on the page. */
import { createContext, useContext, useMemo } from "react";
import { type Problem, Refusal } from "../api/client";

export interface Message {
  text: string;
  /** A step is not shown: it can be taken back, and that is all. */
  kind: "told" | "step" | "failed";
  problem?: Problem;
  /** Takes it back. */
  undo?: () => Promise<unknown>;
}

export const TellContext = createContext<(message: Message) => void>(() => undefined);

/** Something that is better asked first. */
export interface Question {
  title: string;
  text: string;
  /** What stands on the two buttons. */
  yes: string;
  no: string;
}

export const AskContext = createContext<(question: Question) => Promise<boolean>>(() => Promise.resolve(true));

/** Asks, and answers what was chosen. */
export function useAsk(): (question: Question) => Promise<boolean> {
  return useContext(AskContext);
}

export function useTell() {
  const tell = useContext(TellContext);
  return useMemo(
    () => ({
      tell: (text: string, undo?: () => Promise<unknown>) => {
        tell(undo ? { text, kind: "told", undo } : { text, kind: "told" });
      },
      step: (text: string, undo: () => Promise<unknown>) => {
        tell({ text, kind: "step", undo });
      },
      refuse: (error: unknown) => {
        if (error instanceof Refusal) tell({ text: error.message, kind: "failed", problem: error.problem });
        else tell({ text: error instanceof Error ? error.message : "It could not be done.", kind: "failed" });
      },
    }),
    [tell],
  );
}
