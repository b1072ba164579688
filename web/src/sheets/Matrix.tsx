/** The matrix: sources down, deliverables across, one output a cell. Only rows in sight are drawn. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, memo, type MouseEvent, useCallback, useEffect, useMemo, useRef } from "react";
import { Link } from "react-router";
import type { Cell, CellKey, Deliverable, Sheet, SourceRow } from "../api/client";
import { Facet, type FacetState } from "../shared/Facet";
import { ClipSign } from "../shared/icons";
import { MONO } from "../shared/theme";
import { changeText, isOpen, plural, progressText, sizeText, stateWord } from "../shared/words";
import { everything, extended, idOf, moved, only, type Selection, toggled, wholeColumn, wholeRow } from "./selection";
import { isOutOfDate, isWanted, sums, totals, weightTaken } from "./totals";

const ROW = 46;
const HEAD = 74;
const NAME = 312;
const SUM = 110;

interface Props {
  sheet: Sheet;
  selection: Selection | null;
  onSelect: (selection: Selection | null) => void;
  onOpen: () => void;
  onToggle: () => void;
  onAdd: (what: "sources" | "deliverable") => void;
}

const STEPS: Record<string, [number, number]> = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] };

export function Matrix({ sheet, selection, onSelect, onOpen, onToggle, onAdd }: Props) {
  const scroller = useRef<HTMLDivElement>(null);
  const columns = sheet.deliverables.length;
  // The table is filled row by row, so a cell is found by counting.
  const rows = useVirtualizer({ count: sheet.sources.length, getScrollElement: () => scroller.current, estimateSize: () => ROW, overscan: 8, paddingStart: HEAD });
  const template = `${String(NAME)}px repeat(${String(Math.max(columns, 1))}, minmax(132px, 1fr)) ${String(SUM)}px`;
  const sum = useMemo(() => sums(sheet), [sheet]);
  const all = useMemo(() => totals(sheet), [sheet]);
  const cursor = selection ? idOf(selection.cursor) : "";
  const row = selection ? sheet.sources.findIndex((source) => source.id === selection.cursor.source) : -1;

  useEffect(() => {
    if (row >= 0) rows.scrollToIndex(row);
    if (!document.activeElement?.closest("[data-testid=slip], input, [role=dialog]")) scroller.current?.querySelector<HTMLElement>("[data-cursor=true]")?.focus({ preventScroll: true });
  }, [row, cursor, rows]);

  // Cells keep one callback for good, so that only those that change are drawn again.
  const latest = useRef({ sheet, selection, onSelect, onOpen });
  useEffect(() => {
    latest.current = { sheet, selection, onSelect, onOpen };
  });
  const pick = useCallback((cell: CellKey, event: MouseEvent) => {
    const { sheet, selection, onSelect } = latest.current;
    if (event.shiftKey) onSelect(extended(sheet, selection, cell));
    else if (event.ctrlKey || event.metaKey) onSelect(toggled(selection, cell));
    else onSelect(only(cell));
  }, []);
  const open = useCallback((cell: CellKey) => {
    latest.current.onSelect(only(cell));
    latest.current.onOpen();
  }, []);
  const pickRow = useCallback((source: string) => {
    latest.current.onSelect(wholeRow(latest.current.sheet, source));
  }, []);
  const openChosen = useCallback(() => {
    latest.current.onOpen();
  }, []);

  const press = (event: KeyboardEvent) => {
    const step = STEPS[event.key];
    if (step) onSelect(moved(sheet, selection, step[0], step[1], event.shiftKey));
    else if (event.key === " " && selection) onToggle();
    else if (event.key === "Enter" && selection) onOpen();
    else if (event.key.toLowerCase() === "a" && (event.ctrlKey || event.metaKey)) onSelect(everything(sheet));
    else return;
    event.preventDefault();
  };

  if (sheet.sources.length === 0) {
    return (
      <Box sx={{ m: "auto", textAlign: "center", maxWidth: 440, color: "text.secondary" }}>
        <p>Rows are your sources: files, folders, whole camera cards. Columns are what each of them shall become.</p>
        <Button variant="contained" onClick={() => { onAdd("sources"); }}>Add sources</Button>
      </Box>
    );
  }
  return (
    <Box ref={scroller} role="grid" aria-label={sheet.name} tabIndex={0} onKeyDown={press} sx={{ flex: 1, minWidth: 0, overflow: "auto", "&:focus-visible": { outline: "none" } }}>
      <Box sx={{ position: "relative", height: rows.getTotalSize() + ROW, minWidth: NAME + columns * 132 + SUM }}>
        <Box role="row" sx={{ display: "grid", gridTemplateColumns: template, height: HEAD, position: "sticky", top: 0, zIndex: 2, bgcolor: "background.paper", borderBottom: 1, borderColor: "divider" }}>
          <HeadCell label="Choose all cells" onPick={() => { onSelect(everything(sheet)); }}>
            <Box sx={{ mt: "auto", color: "text.secondary" }}>Source</Box>
          </HeadCell>
          {sheet.deliverables.map((deliverable) => (
            <ColumnHead key={deliverable.id} deliverable={deliverable} onPick={() => { onSelect(wholeColumn(sheet, deliverable.id)); }} onOpen={onOpen} />
          ))}
          {columns === 0 && (
            <HeadCell>
              <Button variant="contained" sx={{ m: "auto" }} onClick={() => { onAdd("deliverable"); }}>
                Add a deliverable
              </Button>
            </HeadCell>
          )}
          <HeadCell>
            <Box sx={{ mt: "auto", color: "text.secondary" }}>Row</Box>
          </HeadCell>
        </Box>
        {rows.getVirtualItems().map((item) => {
          const source = sheet.sources[item.index];
          if (!source) return null;
          const cells = sheet.cells.slice(item.index * columns, (item.index + 1) * columns);
          return (
            <Box key={source.id} role="row" sx={{ display: "grid", gridTemplateColumns: template, height: ROW, position: "absolute", top: item.start, left: 0, right: 0, borderBottom: 1, borderColor: "divider" }}>
              <Source sheet={sheet.id} source={source} onPick={pickRow} onOpen={openChosen} />
              {cells.map((cell) => {
                const id = idOf(cell);
                return <OutputCell key={cell.deliverable} cell={cell} size={weightTaken(source)} isChosen={selection?.cells.has(id) ?? false} isCursor={id === cursor} onPick={pick} onOpen={open} />;
              })}
              {columns === 0 && <Box />}
              <Box role="gridcell" sx={{ borderLeft: 1, borderColor: "divider", px: 1, display: "flex", alignItems: "center", color: "text.secondary" }}>
                {sizeText(sum.rows[item.index]?.after ?? 0)}
              </Box>
            </Box>
          );
        })}
        <Box role="row" data-testid="column-totals" sx={{ display: "grid", gridTemplateColumns: template, height: ROW, position: "absolute", bottom: 0, left: 0, right: 0, bgcolor: "background.paper" }}>
          <Box sx={{ px: 1.25, display: "flex", alignItems: "center", color: "text.secondary" }}>Column</Box>
          {sum.columns.map((sum, place) => (
            <Box key={sheet.deliverables[place]?.id} role="gridcell" sx={{ borderLeft: 1, borderColor: "divider", px: 1.25, display: "flex", alignItems: "center" }}>
              {sizeText(sum.after)}
            </Box>
          ))}
          {columns === 0 && <Box />}
          <Box role="gridcell" sx={{ borderLeft: 1, borderColor: "divider", px: 1, display: "flex", alignItems: "center", fontWeight: 700 }}>
            {sizeText(all.after)}
          </Box>
        </Box>
      </Box>
    </Box>
  );
}

interface HeadProps {
  children: React.ReactNode;
  label?: string;
  onPick?: () => void;
  onOpen?: () => void;
}

function HeadCell({ children, label, onPick, onOpen }: HeadProps) {
  return (
    <Box role="columnheader" title={label} onClick={onPick} onDoubleClick={onOpen} sx={{ display: "flex", flexDirection: "column", px: 1.25, py: 1, borderLeft: 1, borderColor: "divider", minWidth: 0, cursor: onPick ? "pointer" : undefined, "&:hover": onPick ? { bgcolor: "action.hover" } : {}, "&:first-of-type": { borderLeft: 0 } }}>
      {children}
    </Box>
  );
}

const clipped = { whiteSpace: "nowrap", overflow: "hidden", textOverflow: "ellipsis" } as const;

function ColumnHead({ deliverable, onPick, onOpen }: { deliverable: Deliverable; onPick: () => void; onOpen: () => void }) {
  return (
    <HeadCell label={`${deliverable.preset.name}: choose its cells; double-click for its settings`} onPick={onPick} onOpen={onOpen}>
      <Box sx={{ fontWeight: 700, ...clipped }}>{deliverable.preset.name}</Box>
      <Box sx={{ fontSize: 12, color: "text.secondary", ...clipped }}>{deliverable.headline}</Box>
      <Box sx={{ fontSize: 12, color: "text.secondary", display: "flex", justifyContent: "space-between", gap: 1 }}>
        <Box sx={clipped}>{deliverable.frame}</Box>
        <Box sx={{ opacity: 0.75, ...clipped, flex: "none" }}>{deliverable.storage ? `${deliverable.folder}/` : "beside it"}</Box>
      </Box>
    </HeadCell>
  );
}

interface SourceProps {
  sheet: string;
  source: SourceRow;
  onPick: (source: string) => void;
  onOpen: () => void;
}

const Source = memo(function Source({ sheet, source, onPick, onOpen }: SourceProps) {
  const name = source.folder ? `${source.folder}/${source.name}` : source.name;
  return (
    <Box role="rowheader" title={source.problem ? `${source.problem.why}. ${source.problem.next}` : [name, ...source.findings].join("\n")} onClick={() => { onPick(source.id); }} onDoubleClick={onOpen} sx={{ display: "flex", alignItems: "center", gap: 1.1, px: 1, minWidth: 0, bgcolor: "background.paper", position: "relative", cursor: "pointer", "&:hover": { bgcolor: "action.hover" }, "&:hover a, & a:focus-visible": { opacity: 1 } }}>
      <Box sx={{ width: 56, height: 32, flex: "none", borderRadius: 0.75, overflow: "hidden", bgcolor: "action.selected", display: "grid", placeItems: "center", color: "text.secondary" }}>
        {source.has_thumbnail ? <img src={`/api/sources/${source.id}/thumbnail`} alt="" width={56} height={32} style={{ objectFit: "cover" }} /> : <ClipSign />}
      </Box>
      <Box sx={{ minWidth: 0, flex: 1 }}>
        <Box sx={{ fontWeight: 600, direction: "rtl", textAlign: "left", ...clipped }}>
          <bdi>{name}</bdi>
        </Box>
        <Box sx={{ display: "flex", justifyContent: "space-between", gap: 1, fontSize: 12, color: source.problem ? "error.main" : "text.secondary" }}>
          <Box sx={clipped}>{source.problem?.why ?? source.summary ?? "being read …"}</Box>
          <Box sx={{ fontFamily: MONO, fontSize: 11, flex: "none", color: source.taken ? "primary.main" : undefined }} title={source.taken ? `marked: ${source.taken} of ${source.duration ?? ""} is taken` : undefined}>{source.taken ?? source.duration}</Box>
        </Box>
      </Box>
      <Box component={Link} to={`/sheets/${sheet}/sources/${source.id}`} tabIndex={-1} title="Open the bench: what it is, and how it is mended (B)" onClick={(event: MouseEvent) => { event.stopPropagation(); }} sx={{ position: "absolute", top: 4, right: 6, px: 0.75, borderRadius: 1, fontSize: 12, opacity: 0, bgcolor: "action.selected", color: "primary.main", textDecoration: "none" }}>
        Bench
      </Box>
    </Box>
  );
});

interface Look {
  state: FacetState;
  head: string;
  detail: string;
  tone: string;
}

/** How far a forecast can be trusted, before its figure. */
const SIGNS: Record<NonNullable<Cell["certainty"]>, string> = { fixed: "", ceiling: "≤ ", sampled: "≈ ", modelled: "~ ", unknown: "" };

/** What a cell shows, in words. */
function lookOf(cell: Cell, size: number): Look {
  const forecast = cell.forecast == null ? "" : `${SIGNS[cell.certainty ?? "unknown"]}${sizeText(cell.forecast)}`;
  const growth = cell.certainty === "fixed" ? "larger than source" : "may be larger";
  const saving = cell.forecast == null ? "" : cell.exceeds_source ? growth : changeText(size, cell.forecast);
  const quiet = "text.secondary";
  if (!isWanted(cell)) return { state: "off", head: "off", detail: cell.refusal?.replace("the source has ", "") ?? "not wanted", tone: quiet };
  const { run } = cell;
  if (cell.shares_name && (!run || (run.state !== "done" && !isOpen(run)))) return { state: "idle", head: forecast || "…", detail: "name of another output", tone: "secondary.main" };
  if (!run) return { state: "idle", head: forecast || "…", detail: saving, tone: cell.exceeds_source ? "secondary.main" : quiet };
  switch (run.state) {
    case "done": {
      if (isOutOfDate(cell)) return { state: "outOfDate", head: forecast || "…", detail: `out of date · made ${sizeText(run.size ?? 0)}`, tone: "secondary.main" };
      const notes = run.notes > 0 ? `, ${plural(run.notes, "note")}` : "";
      const checked = run.released_because == null ? `checked${notes}` : "released";
      return { state: "done", head: sizeText(run.size ?? 0), detail: `${changeText(size, run.size ?? 0)} · ${checked}`, tone: quiet };
    }
    case "withheld":
      return { state: "withheld", head: "withheld", detail: run.problem?.why ?? "", tone: "secondary.main" };
    case "running": {
      return { state: "running", head: forecast, detail: progressText(run.progress), tone: quiet };
    }
    case "checking":
    case "waiting":
      return { state: run.state, head: forecast, detail: stateWord(run.state), tone: quiet };
    case "paused":
      return { state: "paused", head: forecast, detail: "held", tone: "secondary.main" };
    case "failed":
      return { state: "failed", head: "failed", detail: run.problem?.why ?? "", tone: "error.main" };
    case "cancelled":
      return { state: "cancelled", head: forecast, detail: run.problem?.kind === "name_taken" ? "name taken" : "cancelled", tone: quiet };
  }
}

interface CellProps {
  cell: Cell;
  size: number;
  isChosen: boolean;
  isCursor: boolean;
  onPick: (cell: CellKey, event: MouseEvent) => void;
  onOpen: (cell: CellKey) => void;
}

const OutputCell = memo(function OutputCell({ cell, size, isChosen, isCursor, onPick, onOpen }: CellProps) {
  const look = lookOf(cell, size);
  const key = { source: cell.source, deliverable: cell.deliverable };
  const ownPreset = typeof cell.overrides?.name === "string" ? cell.overrides.name : null;
  return (
    <Box
      role="gridcell"
      tabIndex={isCursor ? 0 : -1}
      data-chosen={isChosen}
      data-cursor={isCursor}
      data-state={look.state}
      aria-selected={isChosen}
      aria-label={`${look.head}, ${look.detail}`}
      title={look.detail}
      onClick={(event) => { onPick(key, event); }}
      onDoubleClick={() => { onOpen(key); }}
      sx={{
        position: "relative",
        display: "flex",
        alignItems: "center",
        gap: 1.1,
        px: 1.25,
        minWidth: 0,
        cursor: "default",
        userSelect: "none",
        borderLeft: 1,
        borderColor: "divider",
        bgcolor: isChosen ? "action.selected" : undefined,
        outline: isCursor ? "2px solid" : "none",
        outlineColor: "primary.main",
        outlineOffset: -2,
        "&:hover": { bgcolor: "background.paper" },
      }}
    >
      <Facet state={look.state} fraction={cell.run?.progress?.fraction ?? 0} />
      <Box sx={{ minWidth: 0 }}>
        <Box sx={{ fontWeight: 600, color: look.tone === "error.main" ? look.tone : look.state === "off" ? "text.secondary" : "text.primary", ...clipped }}>{look.head}</Box>
        <Box sx={{ fontSize: 12, color: look.tone === "error.main" ? "text.secondary" : look.tone, ...clipped }}>{look.detail}</Box>
      </Box>
      {cell.overrides && <Box title={ownPreset ? `made as ${ownPreset}` : "overridden"} data-own={true} sx={{ position: "absolute", top: 0, right: 0, borderTop: "9px solid", borderTopColor: "primary.main", borderLeft: "9px solid transparent" }} />}
    </Box>
  );
});
