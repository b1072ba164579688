/** Settings that were copied, to be given to other sources or outputs. */
import type { Patch } from "../api/client";

export interface Copied {
  overrides: Patch;
  /** Of what they were. */
  of: string;
}

let copied: Copied | null = null;

export const clipboard = {
  put: (settings: Copied) => {
    copied = settings;
  },
  get: () => copied,
};
