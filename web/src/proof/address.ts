/** Where an output is proved. */
import type { CellKey } from "../api/client";

export function proofAddress(sheet: string, cell: CellKey): string {
  return `/sheets/${sheet}/proof/${cell.source}/${cell.deliverable}`;
}
