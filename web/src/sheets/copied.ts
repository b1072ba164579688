/** What was copied: settings, to be given to other sources or outputs, or a column, to be given to other columns. */
import type { Deliverable } from "../api/client";
import type { Patch } from "./overrides";

export interface Copied {
  overrides: Patch;
  /** The column as a whole, where one was copied. */
  column: Deliverable | null;
  /** Of what they were. */
  of: string;
}

let copied: Copied | null = null;

/** As on any clipboard, what was copied on one sheet can be pasted on the next. */
export const clipboard = {
  put: (settings: Copied) => {
    copied = settings;
  },
  get: () => copied,
};
