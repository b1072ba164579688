/** The slip: what is done with the chosen outputs and why, and what came out. */
import { styled } from "@mui/material/styles";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useState } from "react";
import { Link as RouterLink } from "react-router";
import { api, type Cell, type Deliverable, type Sheet } from "../api/client";
import { Facet } from "../shared/Facet";
import { proofAddress } from "../proof/address";
import { changeText, isOpen, plural, sizeText } from "../shared/words";
import { CellSlip } from "./CellSlip";
import { Heading, Line } from "./SlipParts";
import { OtherPreset } from "./OtherPreset";
import { OwnSettings, RowsSettings } from "./OwnSettings";
import type { Shape } from "./selection";
import { totals } from "./totals";
import type { SheetWork } from "./work";

interface Props {
  sheet: Sheet;
  shape: Shape;
  cells: Cell[];
  work: SheetWork;
  onClose: () => void;
  onChangeColumn: (column: Deliverable) => void;
  /** Shows what follows from the findings of these rows; nothing where nothing does. */
  onSuggestions: ((rows: string[]) => void) | null;
}

const Whole = styled("aside", { shouldForwardProp: (prop) => prop !== "isWide" })<{ isWide: boolean }>(
  ({ theme: { palette, spacing, breakpoints }, isWide }) => ({
    width: isWide ? 560 : 400,
    maxWidth: "100%",
    flex: "none",
    overflow: "auto",
    borderLeft: `1px solid ${palette.divider}`,
    backgroundColor: palette.background.paper,
    padding: spacing(2), // In a narrow room it lies over the matrix.
    [breakpoints.down("md")]: { position: "absolute", inset: "0 0 0 auto", zIndex: 4 },
  }),
);

export function Slip({ sheet, shape, cells, work, onClose, onChangeColumn, onSuggestions }: Props) {
  const [open, setOpen] = useState<"own" | "rows" | "preset" | null>(null);
  const rows = shape.kind === "row" ? [shape.source] : shape.kind === "rows" ? shape.sources : [];
  const isDone = shape.kind === "cell" && shape.cell.run?.state === "done";
  const source =
    shape.kind === "row"
      ? sheet.sources.find((row) => row.id === shape.source)
      : shape.kind === "cell"
        ? sheet.sources.find((row) => row.id === shape.cell.source)
        : undefined;
  const column =
    shape.kind === "column"
      ? sheet.deliverables.find((one) => one.id === shape.deliverable)
      : shape.kind === "cell"
        ? sheet.deliverables.find((one) => one.id === shape.cell.deliverable)
        : undefined;
  const sum = totals(sheet, cells);
  const title =
    shape.kind === "row"
      ? source?.name
      : shape.kind === "several"
        ? plural(cells.length, "output")
        : shape.kind === "rows"
          ? plural(shape.sources.length, "source")
          : column?.preset.name;
  const below =
    shape.kind === "cell"
      ? `of ${source?.name ?? ""}`
      : shape.kind === "row"
        ? source?.summary
        : shape.kind === "column"
          ? column?.headline
          : "chosen";
  const state =
    shape.kind === "cell"
      ? (shape.cell.run?.state ?? (shape.cell.enabled ? "idle" : "off"))
      : sum.wanted > 0 && sum.done === sum.wanted
        ? "done"
        : sum.working > 0
          ? "running"
          : sum.failed > 0
            ? "failed"
            : "idle";
  return (
    <Whole aria-label="What is done with the chosen outputs" data-testid="slip" isWide={isDone}>
      <Box sx={{ display: "flex", alignItems: "flex-start", gap: 1.25 }}>
        <Facet
          state={state}
          fraction={shape.kind === "cell" ? (shape.cell.run?.progress?.fraction ?? 0) : sum.fraction}
          size={28}
        />
        <Box sx={{ minWidth: 0, flex: 1 }}>
          <Box sx={{ fontWeight: 700, fontSize: 15, overflowWrap: "anywhere" }}>{title}</Box>
          <Box sx={{ color: "text.secondary", overflowWrap: "anywhere" }}>{below}</Box>
        </Box>
        <Button color="inherit" onClick={onClose} aria-label="Close the slip" title="Close the slip (Esc)">
          Close
        </Button>
      </Box>
      <Actions
        cells={cells}
        work={work}
        proof={shape.kind === "cell" && !shape.cell.refusal ? proofAddress(sheet.id, shape.cell) : null}
        onOwn={() => {
          setOpen("own");
        }}
        onPreset={() => {
          setOpen("preset");
        }}
      />
      {shape.kind === "cell" && source && column ? (
        <CellSlip cell={shape.cell} source={source} column={column} />
      ) : (
        <>
          <Heading>Totals</Heading>
          <Line name="Files">{`${String(sum.done)} of ${String(sum.wanted)} made${sum.failed > 0 ? `, ${String(sum.failed)} failed` : ""}${cells.length > sum.wanted ? `, ${String(cells.length - sum.wanted)} off or not possible` : ""}`}</Line>
          <Line name="Size">{`${sizeText(sum.before)} → ${sum.done === sum.wanted ? "" : "≈ "}${sizeText(sum.after)}${sum.before > 0 ? `, ${changeText(sum.before, sum.after)}` : ""}`}</Line>
          {sum.done > 0 && <Line name="Forecast">{sizeText(sum.expected)}</Line>}
        </>
      )}
      {shape.kind === "column" && column && (
        <>
          <Heading>The column</Heading>
          <Line name="Frame">{column.frame}</Line>
          <Line name="Destination">{column.storage ? column.folder || "top folder" : "next to each source"}</Line>
          <Line name="Name">{column.name_pattern}</Line>
          <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mt: 1 }}>
            <Button
              variant="outlined"
              color="inherit"
              onClick={() => {
                onChangeColumn(column);
              }}
            >
              Change the column
            </Button>
            {sheet.deliverables.length > 1 && (
              <Button
                color="inherit"
                title="Destination, name pattern and the rule for taken names"
                onClick={() => {
                  work.copyPlace(sheet, column);
                }}
              >
                Copy destination and naming to all columns
              </Button>
            )}
            <Button
              color="inherit"
              onClick={() => {
                work.removeColumn(column.id, column.preset.name);
                onClose();
              }}
            >
              Remove from sheet
            </Button>
          </Box>
        </>
      )}
      {shape.kind === "row" && source && (
        <>
          <Heading>The source</Heading>
          <Line name="Length">
            {source.taken
              ? `${source.taken} of ${source.duration ?? ""} is taken, as marked`
              : (source.duration ?? "not known")}
          </Line>
          <Line name="Size">{source.size == null ? "not known" : sizeText(source.size)}</Line>
          {source.folder && <Line name="Folder">{source.folder}</Line>}
          {source.problem && <Line name="Problem">{`${source.problem.why}. ${source.problem.next}`}</Line>}
          {source.findings.map((finding) => (
            <Line key={finding} name="Findings">
              {finding}
            </Line>
          ))}
        </>
      )}
      {rows.length > 0 && (
        <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mt: 1 }}>
          {source && (
            <Button
              variant="outlined"
              component={RouterLink}
              to={`/sheets/${sheet.id}/sources/${source.id}`}
              title="Open the bench (B)"
            >
              Open the bench
            </Button>
          )}
          {source && (
            <Button color="inherit" component="a" href={api.sourceFile(source.id)} download={source.name}>
              Download source
            </Button>
          )}
          <Button
            variant="outlined"
            color="inherit"
            data-testid="row-settings"
            onClick={() => {
              setOpen("rows");
            }}
          >
            {rows.length === 1 ? "Settings of the source" : `Settings of ${String(rows.length)} sources`}
          </Button>
          {onSuggestions && (
            <Button
              variant="outlined"
              color="inherit"
              onClick={() => {
                onSuggestions(rows);
              }}
            >
              Suggestions
            </Button>
          )}
          <Button
            color="inherit"
            onClick={() => {
              work.removeSources(rows);
              onClose();
            }}
          >
            {"Remove from sheet"}
          </Button>
        </Box>
      )}
      {open === "own" && (
        <OwnSettings
          sheet={sheet}
          cells={cells}
          work={work}
          onClose={() => {
            setOpen(null);
          }}
        />
      )}
      {open === "rows" && (
        <RowsSettings
          sheet={sheet}
          sources={rows}
          work={work}
          onClose={() => {
            setOpen(null);
          }}
        />
      )}
      {open === "preset" && (
        <OtherPreset
          count={cells.length}
          onTake={(preset) => {
            work.usePreset(sheet, cells, preset);
          }}
          onClose={() => {
            setOpen(null);
          }}
        />
      )}
    </Whole>
  );
}

function Actions({
  cells,
  work,
  proof,
  onOwn,
  onPreset,
}: {
  cells: Cell[];
  work: SheetWork;
  proof: string | null;
  onOwn: () => void;
  onPreset: () => void;
}) {
  const open = cells.filter((cell) => isOpen(cell.run));
  const idle = cells.filter((cell) => !isOpen(cell.run) && cell.forecast != null);
  const ended = cells.filter((cell) => cell.run?.state === "failed" || cell.run?.state === "cancelled");
  const count = (some: Cell[], word: string) => (cells.length > 1 ? `${word} ${String(some.length)}` : word);
  const again = idle.length > 0 && idle.every((cell) => cell.run?.state === "done");
  return (
    <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, my: 1.5 }}>
      {idle.length > 0 && (
        <Button
          variant="outlined"
          onClick={() => {
            work.run(idle);
          }}
        >
          {count(idle, again ? "Run again" : "Run")}
        </Button>
      )}
      {ended.length > 0 && (
        <Button
          variant="outlined"
          onClick={() => {
            work.act("retry", ended);
          }}
        >
          {count(ended, "Retry")}
        </Button>
      )}
      {open.some((cell) => cell.run?.state === "paused") && (
        <Button
          variant="outlined"
          onClick={() => {
            work.act(
              "resume",
              open.filter((cell) => cell.run?.state === "paused"),
            );
          }}
        >
          Resume
        </Button>
      )}
      {open.some((cell) => cell.run?.state !== "paused") && (
        <Button
          variant="outlined"
          onClick={() => {
            work.act(
              "pause",
              open.filter((cell) => cell.run?.state !== "paused"),
            );
          }}
        >
          Hold
        </Button>
      )}
      {open.length > 0 && (
        <Button
          variant="outlined"
          color="inherit"
          onClick={() => {
            work.act("cancel", open);
          }}
        >
          Cancel
        </Button>
      )}
      {proof && (
        <Button
          variant="outlined"
          component={RouterLink}
          to={proof}
          title="Make a few seconds of it to look at (P)"
          data-testid="prove-it"
        >
          Prove it
        </Button>
      )}
      <Button
        color="inherit"
        onClick={() => {
          work.toggle(cells);
        }}
        title="Switch on or off (Space)"
      >
        {cells.every((cell) => cell.enabled) ? "Switch off" : "Switch on"}
      </Button>
      <Button color="inherit" onClick={onOwn} data-testid="own-settings">
        Overrides
      </Button>
      <Button color="inherit" onClick={onPreset} data-testid="other-preset">
        Use another preset
      </Button>
    </Box>
  );
}
