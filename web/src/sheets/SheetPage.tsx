/** One sheet: the matrix, its totals, and the one big action. */
import Box from "@mui/material/Box";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, type Cell, type Deliverable, type Sheet } from "../api/client";
import { caughtUp, keys } from "../api/live";
import { type Action, useActions } from "../shared/actions";
import { Pending } from "../shared/Pending";
import { useTell } from "../shared/messages";
import { remember, remembered } from "../shared/remembered";
import { proofAddress } from "../proof/address";
import { isOpen, plural } from "../shared/words";
import { DropArea } from "../uploads/DropArea";
import { DeliverableDialog } from "./DeliverableDialog";
import { Foot, useBatchNotice } from "./Foot";
import { Matrix } from "./Matrix";
import { NameDialog } from "./NameDialog";
import { clipboard } from "./copied";
import { chosenCells, type Selection, shapeOf, those, wholeRows } from "./selection";
import { SheetBar } from "./SheetBar";
import { Slip } from "./Slip";
import { SourcesDialog } from "./SourcesDialog";
import { SuggestionsDialog } from "./SuggestionsDialog";
import { isRunnable, sums } from "./totals";
import { seen, type View, WHOLE } from "./view";
import { ViewBar } from "./ViewBar";
import { type RunAction, useSheetWork } from "./work";

export type Open = "sources" | "deliverable" | "name" | "copy" | Deliverable | { follows: string[] | null } | null;

/** How this sheet was looked at last; what rows were sought is not kept. */
function useView(id: string): [View, (view: View) => void] {
  const place = `sheet.view.${id}`;
  const [view, setView] = useState<View>(() => ({ ...WHOLE, ...remembered<Partial<View>>(place, {}) }));
  const change = useCallback(
    (next: View) => {
      setView(next);
      const { order, columns, hidden, widths } = next;
      remember(place, { order, columns, hidden, widths });
    },
    [place],
  );
  return [view, change];
}

export default function SheetPage() {
  const { id = "" } = useParams();
  const {
    data: sheet,
    error,
    refetch,
  } = useQuery({
    queryKey: keys.sheet(id),
    queryFn: async () => caughtUp(await api.sheet(id)),
  });
  if (!sheet) return <Pending error={error} onAgain={() => void refetch()} />;
  return <Loaded key={id} sheet={sheet} />;
}

function Loaded({ sheet }: { sheet: Sheet }) {
  const [open, setOpen] = useState<Open>(null);
  const [selection, setSelection] = useState<Selection | null>(null);
  const [slipOpen, setSlipOpen] = useState(false);
  const work = useSheetWork(sheet.id);
  const { tell, refuse } = useTell();
  const navigate = useNavigate();
  const [view, setView] = useView(sheet.id);
  const { data: suggestions = [] } = useQuery({
    queryKey: keys.suggestions(sheet.id),
    queryFn: () => api.suggestions(sheet.id),
  });
  const shown = useMemo(() => seen(sheet, view), [sheet, view]);
  const chosen = useMemo(() => chosenCells(shown, selection), [shown, selection]);
  useBatchNotice(sheet);

  const { id, name } = sheet;
  const remove = useCallback(async () => {
    try {
      await api.removeSheet(id);
      tell(`“${name}” is removed; what it made stays.`, () => api.restore(id));
      await navigate("/sheets");
    } catch (error) {
      refuse(error);
    }
  }, [id, name, navigate, tell, refuse]);
  // Runs change a sheet several times a second: what does not show them asks for the sheet when it needs it.
  const client = useQueryClient();
  const chooseShown = useCallback(() => {
    const now = client.getQueryData<Sheet>(keys.sheet(id));
    if (!now) return;
    const rows = seen(now, view);
    setSelection(
      wholeRows(
        rows,
        rows.sources.map((source) => source.id),
      ),
    );
    setSlipOpen(true);
  }, [client, id, view]);
  const showSuggestions = useCallback(() => {
    setOpen({ follows: null });
  }, []);
  const { ready } = sums(sheet);
  const runAll = useCallback(() => {
    work.run();
  }, [work]);
  const shape = shapeOf(selection, chosen);
  const heads = shape?.kind === "row" ? [shape.source] : shape?.kind === "rows" ? shape.sources : [];
  const column = shape?.kind === "column" ? sheet.deliverables.find((one) => one.id === shape.deliverable) : undefined;
  const copy = () => {
    const head = heads[0];
    const row = sheet.sources.find((source) => source.id === head);
    const of = column?.preset.name ?? row?.name ?? "an output";
    const overrides = (row ? row.overrides : column ? null : chosen[0]?.overrides) ?? {};
    clipboard.put({ overrides, column: column ?? null, of });
    tell(`The settings of ${of} are copied.`);
  };
  const paste = () => {
    const copied = clipboard.get();
    if (!copied) return;
    if (column && copied.column) work.pasteColumn(column, copied.column);
    else if (copied.column) refuse(new Error("A copied column can be pasted to a column: choose one by its head."));
    else if (heads.length > 0)
      work.setRows(
        [{ sources: heads, overrides: copied.overrides }],
        false,
        `${plural(heads.length, "source")} set as ${copied.of}.`,
      );
    else work.replace(chosen, copied.overrides);
  };
  const some = chosen.length > 0;
  const rows = [...new Set(chosen.map((cell) => cell.source))];
  const forChosen = (name: string, key: string, does: RunAction, which: (cell: Cell) => boolean): Action => ({
    name: `${name} the chosen outputs`,
    key,
    enabled: chosen.some(which),
    run: () => {
      work.act(does, chosen.filter(which));
    },
  });
  const choose = (name: string, which: (cell: Cell) => boolean): Action => ({
    name: `Choose all outputs that ${name}`,
    enabled: () => sheet.cells.some(which),
    run: () => {
      setSelection(those(shown, which));
    },
  });
  useActions([
    {
      name: "Add sources",
      key: "s",
      run: () => {
        setOpen("sources");
      },
    },
    {
      name: "Add a deliverable",
      key: "d",
      run: () => {
        setOpen("deliverable");
      },
    },
    { name: "Run the sheet", key: "R", enabled: ready.length > 0, run: runAll },
    {
      name: "Run the chosen outputs",
      key: "r",
      enabled: some,
      run: () => {
        work.run(chosen.filter((cell) => !isOpen(cell.run)));
      },
    },
    forChosen("Hold", "h", "pause", (cell) => isOpen(cell.run) && cell.run.state !== "paused"),
    forChosen("Resume", "g", "resume", (cell) => cell.run?.state === "paused"),
    forChosen("Cancel", "c", "cancel", (cell) => isOpen(cell.run)),
    forChosen("Retry", "y", "retry", (cell) => cell.run?.state === "failed" || cell.run?.state === "cancelled"),
    {
      name: "Switch the chosen outputs on or off",
      enabled: some,
      run: () => {
        work.toggle(chosen);
      },
    },
    choose("failed", (cell) => cell.run?.state === "failed"),
    choose("are not made", isRunnable),
    choose("have overrides", (cell) => cell.overrides != null),
    {
      name: "Open the bench of the chosen source",
      key: "b",
      enabled: rows.length === 1,
      run: () => void navigate(`/sheets/${sheet.id}/sources/${rows[0] ?? ""}`),
    },
    {
      name: "Prove the chosen output",
      key: "p",
      enabled: chosen.length === 1 && provable(chosen[0]),
      run: () => {
        if (chosen[0]) void navigate(proofAddress(sheet.id, chosen[0]));
      },
    },
    {
      name: "Change the chosen column",
      enabled: column !== undefined,
      run: () => {
        if (column) setOpen(column);
      },
    },
    {
      name: "Copy the chosen column's destination and naming to all columns",
      enabled: column !== undefined,
      run: () => {
        if (column) work.copyPlace(sheet, column);
      },
    },
    {
      name: "Remove the chosen column from the sheet",
      enabled: column !== undefined,
      run: () => {
        if (column) work.removeColumn(column.id, column.preset.name);
      },
    },
    {
      name: "Remove the sources of the chosen outputs from the sheet",
      enabled: some,
      run: () => {
        work.removeSources(rows);
      },
    },
    {
      name: "Close the slip",
      key: "Escape",
      enabled: slipOpen,
      run: () => {
        setSlipOpen(false);
      },
    },
    { name: "Copy the settings of what is chosen", key: "Ctrl+c", enabled: some, run: copy },
    {
      name: "Give the copied settings to what is chosen",
      key: "Ctrl+v",
      enabled: () => some && clipboard.get() !== null,
      run: paste,
    },
    {
      name: "Duplicate the sheet",
      run: () => {
        setOpen("copy");
      },
    },
    {
      name: "Rename the sheet",
      run: () => {
        setOpen("name");
      },
    },
    { name: "Remove the sheet", run: () => void remove() },
  ]);

  const close = () => {
    setOpen(null);
  };
  return (
    <DropArea sheet={sheet.id}>
      <SheetBar
        name={sheet.name}
        sources={sheet.sources.length}
        deliverables={sheet.deliverables.length}
        onOpen={setOpen}
        onRemove={remove}
      />
      {sheet.sources.length > 0 && (
        <ViewBar
          sources={sheet.sources}
          deliverables={sheet.deliverables}
          view={view}
          shown={shown.sources.length}
          suggestions={suggestions}
          onChange={setView}
          onChooseAll={chooseShown}
          onSuggestions={showSuggestions}
        />
      )}
      <Box sx={{ flex: 1, minHeight: 0, display: "flex", position: "relative" }}>
        <Matrix
          sheet={shown}
          widths={view.widths}
          selection={selection}
          onSelect={setSelection}
          onOpen={() => {
            setSlipOpen(true);
          }}
          onToggle={() => {
            work.toggle(chosen);
          }}
          onAdd={setOpen}
        />
        {slipOpen && shape && (
          <Slip
            sheet={sheet}
            shape={shape}
            cells={chosen}
            work={work}
            onClose={() => {
              setSlipOpen(false);
            }}
            onChangeColumn={setOpen}
            onSuggestions={
              suggestions.length > 0
                ? (rows) => {
                    setOpen({ follows: rows });
                  }
                : null
            }
          />
        )}
      </Box>
      <Foot sheet={sheet} ready={ready.length} onRun={runAll} onAct={work.act} />
      {open === "sources" && <SourcesDialog sheet={sheet.id} onClose={close} />}
      {open === "deliverable" && <DeliverableDialog sheet={sheet.id} column={null} onClose={close} />}
      {open === "name" && (
        <NameDialog
          title="Rename the sheet"
          name={sheet.name}
          onSave={(name) => api.renameSheet(sheet.id, name)}
          onClose={close}
        />
      )}
      {open === "copy" && (
        <NameDialog
          title="Duplicate the sheet"
          name={`${sheet.name}, second`}
          onSave={async (name) => {
            const made = await api.duplicateSheet(sheet.id, name);
            await navigate(`/sheets/${made.id}`);
          }}
          onClose={close}
        />
      )}
      {open !== null && typeof open === "object" && "follows" in open && (
        <SuggestionsDialog
          suggestions={suggestions}
          rows={open.follows}
          onTake={(taken) => {
            const sources = new Set(taken.flatMap((one) => one.sources));
            work.setRows(
              taken.map(({ suggestion, sources }) => ({ sources, overrides: suggestion.settings })),
              true,
              `${plural(taken.length, "suggestion")} applied to ${plural(sources.size, "source")}.`,
            );
          }}
          onShow={(suggestion) => {
            setView({ ...view, suggested: suggestions.find((one) => one.what === suggestion.what)?.sources ?? null });
            close();
          }}
          onClose={close}
        />
      )}
      {open !== null && typeof open === "object" && "preset" in open && (
        <DeliverableDialog sheet={sheet.id} column={open} onClose={close} />
      )}
    </DropArea>
  );
}

/** Whether a few seconds of an output can be made to look at. */
function provable(cell: Cell | undefined): boolean {
  return cell !== undefined && !cell.refusal;
}
