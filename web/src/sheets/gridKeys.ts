/** What keys and clicks mean in the matrix: after the grid pattern of the WAI-ARIA Authoring Practices. */
import type { CellKey, Sheet } from "../api/client";
import { everything, moved, type Selection, wholeColumn, wholeRow } from "./selection";

/** A place in the matrix that can be chosen. */
export type Place = { cell: CellKey } | { row: string } | { column: string } | { all: true };

/** What marks an element as such a place. */
export function marked(place: Place): Record<`data-${string}`, string> {
  if ("cell" in place)
    return { "data-place": "cell", "data-source": place.cell.source, "data-deliverable": place.cell.deliverable };
  if ("row" in place) return { "data-place": "row", "data-source": place.row };
  if ("column" in place) return { "data-place": "column", "data-deliverable": place.column };
  return { "data-place": "all" };
}

/** The place that was clicked; links and buttons within act by themselves. */
export function picked({ target }: { target: EventTarget }): Place | null {
  const element = (target as Element).closest<HTMLElement>("a, button, [data-place]");
  const { place, source = "", deliverable = "" } = element?.dataset ?? {};
  if (place === "cell") return { cell: { source, deliverable } };
  if (place === "row") return { row: source };
  if (place === "column") return { column: deliverable };
  return place === "all" ? { all: true } : null;
}

/** A key as far as it matters here. */
export interface Pressed {
  key: string;
  shiftKey: boolean;
  ctrlKey: boolean;
  metaKey: boolean;
}

/** More rows or columns than there are. */
const FAR = 1_000_000;

/** The step that a key makes, in rows and columns. */
function stepOf({ key, ctrlKey, metaKey }: Pressed, page: number): [number, number] | null {
  switch (key) {
    case "ArrowUp":
      return [-1, 0];
    case "ArrowDown":
      return [1, 0];
    case "ArrowLeft":
      return [0, -1];
    case "ArrowRight":
      return [0, 1];
    case "PageUp":
      return [-page, 0];
    case "PageDown":
      return [page, 0];
    case "Home":
      return [ctrlKey || metaKey ? -FAR : 0, -FAR];
    case "End":
      return [ctrlKey || metaKey ? FAR : 0, FAR];
    default:
      return null;
  }
}

/** What is chosen after a key; nothing where the key chooses nothing. `page` is how many rows are in sight. */
export function pressed(event: Pressed, sheet: Sheet, selection: Selection | null, page: number): Selection | null {
  const step = stepOf(event, page);
  if (step) return moved(sheet, selection, step[0], step[1], event.shiftKey);
  const withControl = event.ctrlKey || event.metaKey;
  if (event.key.toLowerCase() === "a" && withControl) return everything(sheet);
  if (event.key !== " " || !selection) return null;
  if (withControl) return wholeColumn(sheet, selection.cursor.deliverable);
  return event.shiftKey ? wholeRow(sheet, selection.cursor.source) : null;
}
