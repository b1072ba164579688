import { memo } from "react";
import type { Cell } from "../api/client";
import { Facet, type FacetState } from "../shared/Facet";
import { changeText, isOpen, plural, progressText, sizeText, stateWord } from "../shared/words";
import { marked } from "./gridKeys";
import { isOutOfDate, isWanted } from "./totals";

interface Look {
  state: FacetState;
  head: string;
  detail: string;
  tone: "quiet" | "held" | "failed";
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
  const quiet = "quiet";
  if (!isWanted(cell))
    return {
      state: "off",
      head: "off",
      detail: cell.refusal?.replace("the source has ", "") ?? "not wanted",
      tone: quiet,
    };
  const { run } = cell;
  if (cell.shares_name && (!run || (run.state !== "done" && !isOpen(run))))
    return { state: "idle", head: forecast || "…", detail: "name of another output", tone: "held" };
  if (!run)
    return {
      state: "idle",
      head: forecast || "…",
      detail: saving,
      tone: cell.exceeds_source ? "held" : quiet,
    };
  switch (run.state) {
    case "done": {
      if (isOutOfDate(cell))
        return {
          state: "outOfDate",
          head: forecast || "…",
          detail: `out of date · made ${sizeText(run.size ?? 0)}`,
          tone: "held",
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
      return { state: "withheld", head: "withheld", detail: run.problem?.why ?? "", tone: "held" };
    case "running": {
      return { state: "running", head: forecast, detail: progressText(run.progress), tone: quiet };
    }
    case "checking":
    case "waiting":
      return { state: run.state, head: forecast, detail: stateWord(run.state), tone: quiet };
    case "paused":
      return { state: "paused", head: forecast, detail: "held", tone: "held" };
    case "failed":
      return { state: "failed", head: "failed", detail: run.problem?.why ?? "", tone: "failed" };
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
    <div
      role="gridcell"
      className="cell"
      aria-colindex={column}
      {...marked({ cell })}
      tabIndex={isCursor ? 0 : -1}
      data-chosen={isChosen}
      data-cursor={isCursor}
      data-state={look.state}
      data-tone={look.tone}
      aria-selected={isChosen}
      aria-label={`${look.head}, ${look.detail}`}
      title={look.detail}
    >
      <Facet state={look.state} fraction={cell.run?.progress?.fraction ?? 0} />
      <div>
        <b>{look.head}</b>
        <small>{look.detail}</small>
      </div>
      {cell.overrides && <span className="own" title={ownPreset ? `made as ${ownPreset}` : "overridden"} data-own />}
    </div>
  );
});
