/** What can be done with the cells of a sheet: shown at once, told to the server, taken back. */
import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useMemo } from "react";
import { api, type Cell, type CellKey, type Deliverable, type Preset, type Sheet } from "../api/client";
import { keys, sheetAgain, showColumn } from "../api/live";
import { useMayCancel } from "../shared/cancelling";
import { useTell } from "../shared/messages";
import { isOpen, plural } from "../shared/words";
import { type Patch, patchAfter, patchToPreset } from "./overrides";
import { idOf } from "./selection";

export type RunAction = "pause" | "resume" | "cancel" | "retry";

function keysOf(cells: Cell[]): CellKey[] {
  return cells.map(({ source, deliverable }) => ({ source, deliverable }));
}

/** Shows a change at once; the server's word comes after it. */
function show(client: QueryClient, sheet: string, cells: Cell[], change: Partial<Cell>): void {
  const ids = new Set(cells.map(idOf));
  client.setQueryData<Sheet>(
    keys.sheet(sheet),
    (now) => now && { ...now, cells: now.cells.map((cell) => (ids.has(idOf(cell)) ? { ...cell, ...change } : cell)) },
  );
}

/** A column as it is asked for. */
function wantedColumn({ preset, storage, folder, name_pattern, clash }: Deliverable) {
  return { preset, storage: storage ?? null, folder, name_pattern, clash };
}

/** Sets own settings that differ from cell to cell, those that are alike in one call. */
async function setEach(sheet: string, wanted: [Cell, Patch][]): Promise<void> {
  const alike = new Map<string, [Cell[], Patch]>();
  for (const [cell, patch] of wanted) {
    const text = JSON.stringify(patch);
    const group = alike.get(text);
    if (group) group[0].push(cell);
    else alike.set(text, [[cell], patch]);
  }
  for (const [cells, overrides] of alike.values()) await api.setCells(sheet, keysOf(cells), { overrides });
}

export function useSheetWork(id: string) {
  const client = useQueryClient();
  const { tell, refuse } = useTell();
  const mayCancel = useMayCancel();
  return useMemo(() => {
    const again = () => sheetAgain(client, id);
    const attempt = (work: () => Promise<unknown>) => {
      work().catch(async (error: unknown) => {
        refuse(error);
        await again();
      });
    };
    const setOwn = (wanted: [Cell, Patch][], words: string) => {
      const before = wanted.map(([cell]): [Cell, Patch] => [cell, cell.overrides ?? {}]);
      attempt(async () => {
        await setEach(id, wanted);
        tell(words, () => setEach(id, before));
        await again();
        for (const [cell] of wanted)
          void client.invalidateQueries({ queryKey: keys.output(cell.source, cell.deliverable) });
      });
    };
    return {
      toggle: (cells: Cell[]) => {
        if (cells.length === 0) return;
        const enabled = !cells.every((cell) => cell.enabled);
        const changed = cells.filter((cell) => cell.enabled !== enabled);
        show(client, id, changed, { enabled });
        attempt(async () => {
          await api.setCells(id, keysOf(changed), { enabled });
          if (changed.length > 1)
            tell(`${plural(changed.length, "output")} switched ${enabled ? "on" : "off"}.`, () =>
              api.setCells(id, keysOf(changed), { enabled: !enabled }),
            );
        });
      },
      run: (cells?: Cell[]) => {
        attempt(async () => {
          const { runs, passed_over, unread } = await api.run(id, cells && keysOf(cells));
          const passed =
            passed_over > 0
              ? ` ${plural(passed_over, "output")} cannot be made and ${passed_over === 1 ? "was" : "were"} passed over.`
              : "";
          const later =
            unread > 0
              ? ` ${plural(unread, "source")} ${unread === 1 ? "is" : "are"} still being read: run again when ${unread === 1 ? "it is" : "they are"} done.`
              : "";
          tell(
            `${runs.length === 0 ? "Nothing to run here." : `${plural(runs.length, "file")} queued.`}${passed}${later}`,
          );
          await again();
        });
      },
      act: (action: RunAction, cells: Cell[]) => {
        const runs = cells.flatMap((cell) => {
          const fits =
            action === "retry" ? cell.run?.state === "failed" || cell.run?.state === "cancelled" : isOpen(cell.run);
          return cell.run && fits ? [cell.run.id] : [];
        });
        attempt(async () => {
          if (action === "cancel" && !(await mayCancel(cells.flatMap((cell) => cell.run ?? [])))) return;
          await api.act(action, runs);
          if (action === "cancel" && runs.length > 0)
            tell(
              `${plural(runs.length, "output")} cancelled; what was begun of ${runs.length === 1 ? "it" : "them"} is gone.`,
              () => api.act("retry", runs),
            );
        });
      },
      /** Own settings, on top of those that a cell has already. */
      adjust: (cells: Cell[], patch: Patch) => {
        setOwn(
          cells.map((cell) => [cell, patchAfter(cell.overrides ?? {}, patch)]),
          `Overrides for ${plural(cells.length, "output")}.`,
        );
      },
      /** Own settings exactly as given; none, where they are empty. */
      replace: (cells: Cell[], patch: Patch) => {
        setOwn(
          cells.map((cell) => [cell, patch]),
          Object.keys(patch).length === 0
            ? `${plural(cells.length, "output")} reset to the column.`
            : `Overrides for ${plural(cells.length, "output")}.`,
        );
      },
      /** Settings for all outputs of some sources, on top of those that they have, or in their place. */
      setRows: (groups: { sources: string[]; overrides: Patch }[], keep: boolean, words: string) => {
        const set = async (groups: { sources: string[]; overrides: Patch }[], keep: boolean) => {
          const before = [];
          for (const { sources, overrides } of groups)
            before.push(...(await api.setRows(id, sources, overrides, keep)));
          await client.invalidateQueries({ queryKey: keys.suggestions(id) });
          await again();
          return before;
        };
        attempt(async () => {
          const before = await set(groups, keep);
          // Where a row stood in several groups, what it had before the first of them comes back last.
          tell(words, () => set(before.reverse(), false));
        });
      },
      usePreset: (sheet: Sheet, cells: Cell[], preset: Preset) => {
        const wanted = cells.flatMap((cell): [Cell, Patch][] => {
          const column = sheet.deliverables.find((deliverable) => deliverable.id === cell.deliverable);
          return column ? [[cell, patchToPreset(column.preset, preset)]] : [];
        });
        setOwn(wanted, `${plural(cells.length, "output")} made as ${preset.name}.`);
      },
      /** Destination, name pattern and clash rule of one column for all others. */
      copyPlace: (sheet: Sheet, from: Deliverable) => {
        const others = sheet.deliverables.filter((column) => column.id !== from.id);
        const wanted = (column: Deliverable, place: Deliverable) => wantedColumn({ ...place, preset: column.preset });
        const change = async (placeOf: (column: Deliverable) => Deliverable) => {
          for (const column of others) await api.changeDeliverable(column.id, wanted(column, placeOf(column)));
        };
        attempt(async () => {
          await change(() => from);
          await again();
          tell(`${plural(others.length, "column")} go where “${from.preset.name}” goes.`, () =>
            change((column) => column),
          );
        });
      },
      /** Preset, destination and naming of a column that was copied, here or on another sheet. */
      pasteColumn: (column: Deliverable, copied: Deliverable) => {
        attempt(async () => {
          showColumn(client, id, await api.changeDeliverable(column.id, wantedColumn(copied)));
          tell(`“${column.preset.name}” is now “${copied.preset.name}”; what it made before stays.`, () =>
            api.changeDeliverable(column.id, wantedColumn(column)),
          );
          await again();
        });
      },
      removeSources: (sources: string[]) => {
        attempt(async () => {
          await api.removeSources(id, sources);
          await again();
          tell(`${plural(sources.length, "source")} taken out of the sheet; the files stay.`, () =>
            api.restore(id, { sources }),
          );
        });
      },
      removeColumn: (deliverable: string, name: string) => {
        attempt(async () => {
          await api.removeDeliverable(deliverable);
          await again();
          tell(`“${name}” taken out of the sheet; what it made stays.`, () =>
            api.restore(id, { deliverables: [deliverable] }),
          );
        });
      },
    };
  }, [client, id, mayCancel, refuse, tell]);
}

export type SheetWork = ReturnType<typeof useSheetWork>;
