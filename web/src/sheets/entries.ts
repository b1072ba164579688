/** What lies in a folder, as it is looked for. */
import type { Entry } from "../api/client";

export const ENTRY_ORDERS = ["name", "size"] as const;
export type EntryOrder = (typeof ENTRY_ORDERS)[number];

const byName = new Intl.Collator(undefined, { numeric: true, sensitivity: "base" });

/** Those that have all the words in their names, folders first. */
export function orderedEntries(entries: Entry[], search: string, order: EntryOrder): Entry[] {
  const words = search.toLowerCase().split(/\s+/).filter(Boolean);
  return entries
    .filter(({ name }) => words.every((word) => name.toLowerCase().includes(word)))
    .sort(
      (one, other) =>
        Number(other.is_folder) - Number(one.is_folder) ||
        (order === "size" ? other.size - one.size : 0) ||
        byName.compare(one.name, other.name),
    );
}

/** The paths from one entry to another, both with them. */
export function range(entries: Entry[], from: string, to: string): string[] {
  const place = (path: string) => entries.findIndex((entry) => entry.path === path);
  const [first, last] = [place(from), place(to)];
  if (first < 0) return [to];
  return entries.slice(Math.min(first, last), Math.max(first, last) + 1).map((entry) => entry.path);
}
