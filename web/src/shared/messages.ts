/** Telling what happened, from anywhere on the page. */
import { createContext, useContext } from "react";
import { type Problem, Refusal } from "../api/client";

export interface Message {
  text: string;
  kind: "told" | "failed";
  problem?: Problem;
}

export const TellContext = createContext<(message: Message) => void>(() => undefined);

export function useTell() {
  const tell = useContext(TellContext);
  return {
    tell: (text: string) => {
      tell({ text, kind: "told" });
    },
    refuse: (error: unknown) => {
      if (error instanceof Refusal) tell({ text: error.message, kind: "failed", problem: error.problem });
      else tell({ text: String(error), kind: "failed" });
    },
  };
}
