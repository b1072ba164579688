/** Uploads, from anywhere on the page. */
import { createContext, useContext } from "react";
import type { Dropped } from "./batch";

export interface Offer {
  files: Dropped[];
  /** The sheet of which they become sources. */
  sheet: string;
}

export const UploadContext = createContext<(offer: Offer) => void>(() => undefined);

/** Asks where files are to go, and sends them. */
export function useUploads(): (offer: Offer) => void {
  return useContext(UploadContext);
}

/** Files that were chosen, those of folders with their folders. */
export function chosenFiles(files: FileList): Dropped[] {
  return [...files]
    .map((file) => ({ file, path: file.webkitRelativePath || file.name }))
    .filter(({ path }) => !path.split("/").some((part) => part.startsWith(".")));
}
