/** Light or dark, as the system says or as was chosen here. */
import { createContext } from "react";

export type Look = "light" | "dark" | "system";

const PLACE = "beryl.look";

export function storedLook(): Look {
  const stored = localStorage.getItem(PLACE);
  return stored === "light" || stored === "dark" ? stored : "system";
}

export function storeLook(look: Look): void {
  localStorage.setItem(PLACE, look);
}

export const LookContext = createContext<{ look: Look; change: (look: Look) => void }>({
  look: "system",
  change: () => undefined,
});
