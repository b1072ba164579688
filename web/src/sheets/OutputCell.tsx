import Box from "@mui/material/Box";
import { memo } from "react";
import type { Cell } from "../api/client";
import { Facet, type FacetState } from "../shared/Facet";
import { clipped } from "../shared/theme";
import { changeText, isOpen, plural, progressText, sizeText, stateWord } from "../shared/words";
import { marked } from "./grid";
import { isOutOfDate, isWanted } from "./totals";

interface Look {
  state: FacetState;
  head: string;
  detail: string;
  tone: string;
}

/** How far a forecast can be trusted, before its figure. */
const SIGNS: Record<NonNullable<Cell["certainty"]>, string> = {
  fixed: "",
  ceiling: "≤ ",
  sampled: "≈ ",
  modelled: "~ ",
  unknown: "",
};

/** What a cell shows, in words. */
function lookOf(cell: Cell, size: number): Look {
  const forecast = cell.forecast == null ? "" : `${SIGNS[cell.certainty ?? "unknown"]}${sizeText(cell.forecast)}`;
  const growth = cell.certainty === "fixed" ? "larger than source" : "may be larger";
  const saving = cell.forecast == null ? "" : cell.exceeds_source ? growth : changeText(size, cell.forecast);
  const quiet = "text.secondary";
  if (!isWanted(cell))
    return {
      state: "off",
      head: "off",
      detail: cell.refusal?.replace("the source has ", "") ?? "not wanted",
      tone: quiet,
    };
  const { run } = cell;
  if (cell.shares_name && (!run || (run.state !== "done" && !isOpen(run))))
    return { state: "idle", head: forecast || "…", detail: "name of another output", tone: "secondary.main" };
  if (!run)
    return {
      state: "idle",
      head: forecast || "…",
      detail: saving,
      tone: cell.exceeds_source ? "secondary.main" : quiet,
    };
  switch (run.state) {
    case "done": {
      if (isOutOfDate(cell))
        return {
          state: "outOfDate",
          head: forecast || "…",
          detail: `out of date · made ${sizeText(run.size ?? 0)}`,
          tone: "secondary.main",
        };
      const notes = run.notes > 0 ? `, ${plural(run.notes, "note")}` : "";
      const checked = run.released_because == null ? `checked${notes}` : "released";
      return {
        state: "done",
        head: sizeText(run.size ?? 0),
        detail: `${changeText(size, run.size ?? 0)} · ${checked}`,
        tone: quiet,
      };
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
      return {
        state: "cancelled",
        head: forecast,
        detail: run.problem?.kind === "name_taken" ? "name taken" : "cancelled",
        tone: quiet,
      };
  }
}

interface CellProps {
  cell: Cell;
  size: number;
  isChosen: boolean;
  isCursor: boolean;
  /** The number of its column, from 1. */
  column: number;
}

/** One output: its state, and what it weighs or will weigh. */
export const OutputCell = memo(function OutputCell({ cell, size, isChosen, isCursor, column }: CellProps) {
  const look = lookOf(cell, size);
  const ownPreset = typeof cell.overrides?.name === "string" ? cell.overrides.name : null;
  return (
    <Box
      role="gridcell"
      aria-colindex={column}
      {...marked({ cell })}
      tabIndex={isCursor ? 0 : -1}
      data-chosen={isChosen}
      data-cursor={isCursor}
      data-state={look.state}
      aria-selected={isChosen}
      aria-label={`${look.head}, ${look.detail}`}
      title={look.detail}
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
        <Box
          sx={{
            fontWeight: 600,
            color: look.tone === "error.main" ? look.tone : look.state === "off" ? "text.secondary" : "text.primary",
            ...clipped,
          }}
        >
          {look.head}
        </Box>
        <Box sx={{ fontSize: 12, color: look.tone === "error.main" ? "text.secondary" : look.tone, ...clipped }}>
          {look.detail}
        </Box>
      </Box>
      {cell.overrides && (
        <Box
          title={ownPreset ? `made as ${ownPreset}` : "overridden"}
          data-own={true}
          sx={{
            position: "absolute",
            top: 0,
            right: 0,
            borderTop: "9px solid",
            borderTopColor: "primary.main",
            borderLeft: "9px solid transparent",
          }}
        />
      )}
    </Box>
  );
});
