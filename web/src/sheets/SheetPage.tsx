/** One sheet: the matrix, its totals, and the one big action. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Menu from "@mui/material/Menu";
import MenuItem from "@mui/material/MenuItem";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, type Cell, type Deliverable, type Sheet } from "../api/client";
import { caughtUp, keys } from "../api/live";
import { type Action, useActions } from "../shared/actions";
import { Bar, Key } from "../shared/Bar";
import { Facet } from "../shared/Facet";
import { Pending } from "../shared/Pending";
import { useTell } from "../shared/messages";
import { notify } from "../shared/notices";
import { remember, remembered } from "../shared/remembered";
import { useNow } from "../shared/now";
import { proofAddress } from "../proof/address";
import { changeText, clockText, isOpen, plural, sizeText, spanText } from "../shared/words";
import { DropArea } from "../uploads/DropArea";
import { DeliverableDialog } from "./DeliverableDialog";
import { Matrix } from "./Matrix";
import { NameDialog } from "./NameDialog";
import { clipboard } from "./copied";
import { chosenCells, type Selection, shapeOf, those, wholeRows } from "./selection";
import { Slip } from "./Slip";
import { SourcesDialog } from "./SourcesDialog";
import { SuggestionsDialog } from "./SuggestionsDialog";
import { isRunnable, sums } from "./totals";
import { seen, type View, WHOLE } from "./view";
import { ViewBar } from "./ViewBar";
import { type RunAction, useSheetWork } from "./work";

type Open = "sources" | "deliverable" | "name" | "copy" | Deliverable | { follows: string[] | null } | null;

/** How this sheet was looked at last; what rows were sought is not kept. */
function useView(id: string): [View, (view: View) => void] {
  const place = `sheet.view.${id}`;
  const [view, setView] = useState<View>(() => ({ ...WHOLE, ...remembered<Partial<View>>(place, {}) }));
  const change = (next: View) => {
    setView(next);
    const { order, columns, hidden, widths } = next;
    remember(place, { order, columns, hidden, widths });
  };
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

  const remove = async () => {
    try {
      await api.removeSheet(sheet.id);
      tell(`“${sheet.name}” is removed; what it made stays.`, () => api.restore(sheet.id));
      await navigate("/sheets");
    } catch (error) {
      refuse(error);
    }
  };
  const { ready } = sums(sheet);
  const runAll = () => {
    work.run();
  };
  const shape = shapeOf(selection, chosen);
  const heads = shape?.kind === "row" ? [shape.source] : shape?.kind === "rows" ? shape.sources : [];
  const copy = () => {
    const head = heads[0];
    const row = sheet.sources.find((source) => source.id === head);
    const of = row?.name ?? "an output";
    clipboard.put({ overrides: (row ? row.overrides : chosen[0]?.overrides) ?? {}, of });
    tell(`The settings of ${of} are copied.`);
  };
  const paste = () => {
    const copied = clipboard.get();
    if (!copied) return;
    if (heads.length > 0)
      work.setRows(
        [{ sources: heads, overrides: copied.overrides }],
        false,
        `${plural(heads.length, "source")} set as ${copied.of}.`,
      );
    else work.replace(chosen, copied.overrides);
  };
  const column = shape?.kind === "column" ? sheet.deliverables.find((one) => one.id === shape.deliverable) : undefined;
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
      <Bar
        title={sheet.name}
        detail={`${plural(sheet.sources.length, "source")} × ${plural(sheet.deliverables.length, "deliverable")}`}
      >
        <SheetMenu
          onRename={() => {
            setOpen("name");
          }}
          onDuplicate={() => {
            setOpen("copy");
          }}
          onRemove={() => void remove()}
        />
        <Button
          color="inherit"
          onClick={() => {
            setOpen("sources");
          }}
          data-testid="add-sources"
          title="Add sources (S), or drop files on the page"
        >
          Add sources<Key>S</Key>
        </Button>
        <Button
          color="inherit"
          onClick={() => {
            setOpen("deliverable");
          }}
          data-testid="add-deliverable"
          title="Add a deliverable (D)"
        >
          Add a deliverable<Key>D</Key>
        </Button>
      </Bar>
      {sheet.sources.length > 0 && (
        <ViewBar
          sheet={sheet}
          view={view}
          shown={shown.sources.length}
          suggestions={suggestions}
          onChange={setView}
          onChooseAll={() => {
            setSelection(
              wholeRows(
                shown,
                shown.sources.map((source) => source.id),
              ),
            );
            setSlipOpen(true);
          }}
          onSuggestions={() => {
            setOpen({ follows: null });
          }}
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

interface MenuProps {
  onRename: () => void;
  onDuplicate: () => void;
  onRemove: () => void;
}

/** What can be done with the sheet as a whole. */
function SheetMenu({ onRename, onDuplicate, onRemove }: MenuProps) {
  const [at, setAt] = useState<HTMLElement | null>(null);
  const entries: [string, () => void][] = [
    ["Rename", onRename],
    ["Duplicate", onDuplicate],
    ["Remove", onRemove],
  ];
  return (
    <>
      <Button
        color="inherit"
        aria-haspopup="menu"
        onClick={(event) => {
          setAt(event.currentTarget);
        }}
      >
        Sheet …
      </Button>
      <Menu
        open={at !== null}
        anchorEl={at}
        onClose={() => {
          setAt(null);
        }}
      >
        {entries.map(([name, run]) => (
          <MenuItem
            key={name}
            onClick={() => {
              setAt(null);
              run();
            }}
          >
            {name}
          </MenuItem>
        ))}
      </Menu>
    </>
  );
}

/** Whether a few seconds of an output can be made to look at. */
function provable(cell: Cell | undefined): boolean {
  return cell !== undefined && !cell.refusal;
}

interface FootProps {
  sheet: Sheet;
  ready: number;
  onRun: () => void;
  onAct: (action: RunAction, cells: Cell[]) => void;
}

function Foot({ sheet, ready, onRun, onAct }: FootProps) {
  const now = useNow();
  const { all: sum, open } = sums(sheet);
  const moving = open.filter((cell) => cell.run?.state !== "paused");
  const held = open.filter((cell) => cell.run?.state === "paused");
  const state =
    sum.wanted > 0 && sum.done === sum.wanted
      ? "done"
      : sum.working > 0
        ? "running"
        : sum.failed > 0
          ? "failed"
          : sum.withheld > 0
            ? "withheld"
            : sum.outOfDate > 0
              ? "outOfDate"
              : "idle";
  const parts = [
    sum.working > 0 && `${String(sum.working)} running`,
    sum.waiting > 0 && `${String(sum.waiting)} waiting`,
    sum.held > 0 && `${String(sum.held)} held`,
    sum.failed > 0 && `${String(sum.failed)} failed`,
    sum.withheld > 0 && `${String(sum.withheld)} withheld until you decide`,
    sum.outOfDate > 0 && `${String(sum.outOfDate)} out of date`,
  ].filter(Boolean);
  return (
    <Box
      component="footer"
      sx={{
        flex: "none",
        minHeight: 58,
        px: 2.5,
        columnGap: { xs: 2, lg: 4 },
        rowGap: 1,
        py: 0.5,
        display: "flex",
        flexWrap: "wrap",
        alignItems: "center",
        borderTop: 1,
        borderColor: "divider",
        bgcolor: "background.paper",
      }}
    >
      <Facet state={state} fraction={sum.fraction} size={34} />
      <Figure
        head={`${String(sum.done)} of ${plural(sum.wanted, "file")} done`}
        detail={parts.join(" · ") || (sum.wanted === 0 ? "add sources and deliverables" : "idle")}
        testid="progress"
      />
      <Figure
        head={`${sizeText(sum.before)} → ${sum.done === sum.wanted ? "" : "≈ "}${sizeText(sum.after)}`}
        detail={
          sum.before > 0
            ? `${changeText(sum.before, sum.after)} over all files${sum.done > 0 ? `, forecast ${sizeText(sum.expected)}` : ""}`
            : ""
        }
        testid="weight"
      />
      {sum.left > 0 && (
        <Figure
          head={`about ${spanText(sum.left)} to go`}
          detail={`those running end at about ${clockText(new Date(now + sum.left * 1000))}`}
        />
      )}
      <Box sx={{ flex: 1 }} />
      {held.length > 0 && (
        <Button
          color="inherit"
          variant="outlined"
          onClick={() => {
            onAct("resume", held);
          }}
        >
          Resume
        </Button>
      )}
      {moving.length > 0 && (
        <Button
          color="inherit"
          variant="outlined"
          onClick={() => {
            onAct("pause", moving);
          }}
        >
          Hold
        </Button>
      )}
      {open.length > 0 && (
        <Button
          color="inherit"
          variant="outlined"
          onClick={() => {
            onAct("cancel", open);
          }}
        >
          Cancel
        </Button>
      )}
      <Button
        variant="contained"
        disabled={ready === 0}
        onClick={onRun}
        title="Run the sheet (Shift+R)"
        sx={{ height: 36, minWidth: 150, fontSize: 15 }}
        data-testid="run"
      >
        {ready === 0
          ? "Nothing to run"
          : ready === sum.wanted
            ? `Run ${plural(ready, "file")}`
            : `Run remaining ${String(ready)}`}
      </Button>
    </Box>
  );
}

function Figure({ head, detail, testid }: { head: string; detail: string; testid?: string }) {
  return (
    <Box data-testid={testid} sx={{ minWidth: 0, whiteSpace: "nowrap" }}>
      <Box sx={{ fontWeight: 700, fontSize: 15, lineHeight: 1.25 }}>{head}</Box>
      <Box sx={{ color: "text.secondary", fontSize: 13 }}>{detail}</Box>
    </Box>
  );
}

/** Tells when the last run of a sheet has ended. */
function useBatchNotice(sheet: Sheet) {
  const wasOpen = useRef(false);
  const { tell } = useTell();
  useEffect(() => {
    const isWorking = sums(sheet).open.length > 0;
    if (wasOpen.current && !isWorking) {
      const sum = sums(sheet).all;
      const text = `${sheet.name}: ${plural(sum.done, "file")} done${sum.failed > 0 ? `, ${String(sum.failed)} failed` : ""}.`;
      tell(text);
      notify(text);
    }
    wasOpen.current = isWorking;
  }, [sheet, tell]);
}
