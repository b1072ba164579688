/** The matrix: sources down, deliverables across, one output a cell. Only rows in sight are drawn. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { defaultRangeExtractor, useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type MouseEvent, type ReactNode, useEffect, useMemo, useRef } from "react";
import type { Deliverable, Sheet } from "../api/client";
import { sizeText } from "../shared/words";
import { COLUMN, Grid, HEAD, NAME, ROW, SUM } from "./Grid";
import { marked, picked, type Place, pressed } from "./gridKeys";
import { OutputCell } from "./OutputCell";
import { RowHead } from "./RowHead";
import {
  everything,
  extended,
  extendedRows,
  idOf,
  only,
  type Selection,
  toggled,
  toggledRow,
  wholeColumn,
  wholeRow,
} from "./selection";
import { sums, weightTaken } from "./totals";

interface Props {
  /** As it is looked at. */
  sheet: Sheet;
  /** Widths of columns in pixels, where they are not the usual one. */
  widths: Record<string, number>;
  selection: Selection | null;
  onSelect: (selection: Selection | null) => void;
  onOpen: () => void;
  onToggle: () => void;
  onAdd: (what: "sources" | "deliverable") => void;
}

export function Matrix({ sheet, widths, selection, onSelect, onOpen, onToggle, onAdd }: Props) {
  const scroller = useRef<HTMLDivElement>(null);
  const columns = sheet.deliverables.length;
  const cursor = selection ? idOf(selection.cursor) : "";
  const row = selection ? sheet.sources.findIndex((source) => source.id === selection.cursor.source) : -1;

  // The table is filled row by row, so a cell is found by counting.
  const rows = useVirtualizer({
    count: sheet.sources.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 8,
    paddingStart: HEAD,
    // The cursor never stands behind the heads or the sums.
    scrollPaddingStart: HEAD,
    scrollPaddingEnd: ROW,
    // The cell that has the focus stays, however far one scrolls.
    rangeExtractor: (range) => {
      const inSight = defaultRangeExtractor(range);
      return row < 0 || inSight.includes(row) ? inSight : [...inSight, row].sort((one, other) => one - other);
    },
  });
  const [template, width] = useMemo(() => {
    const own = sheet.deliverables.map(({ id }) => widths[id]);
    const tracks = own.map((own) => (own === undefined ? `minmax(${String(COLUMN)}px, 1fr)` : `${String(own)}px`));
    const all = tracks.length > 0 ? tracks.join(" ") : `minmax(${String(COLUMN)}px, 1fr)`;
    const sum = own.reduce<number>((sum, own) => sum + (own ?? COLUMN), 0);
    return [{ gridTemplateColumns: `${String(NAME)}px ${all} minmax(${String(SUM)}px, auto)` }, NAME + sum + SUM];
  }, [sheet.deliverables, widths]);
  const sum = sums(sheet);
  useEffect(() => {
    if (row >= 0) rows.scrollToIndex(row);
    if (!document.activeElement?.closest("[data-testid=slip], input, [role=dialog]"))
      scroller.current?.querySelector<HTMLElement>("[data-cursor=true]")?.focus({ preventScroll: true });
  }, [row, cursor, rows]);

  const pick = (event: MouseEvent) => {
    const place = picked(event);
    if (!place) return;
    if ("cell" in place) {
      if (event.shiftKey) onSelect(extended(sheet, selection, place.cell));
      else if (event.ctrlKey || event.metaKey) onSelect(toggled(selection, place.cell));
      else onSelect(only(place.cell));
    } else if ("row" in place) {
      if (event.shiftKey) onSelect(extendedRows(sheet, selection, place.row));
      else if (event.ctrlKey || event.metaKey) onSelect(toggledRow(sheet, selection, place.row));
      else onSelect(wholeRow(sheet, place.row));
    } else if ("column" in place) onSelect(wholeColumn(sheet, place.column));
    else onSelect(everything(sheet));
    // More is being chosen: whoever does that has not asked for the slip.
    if (!event.shiftKey && !event.ctrlKey && !event.metaKey) onOpen();
  };
  const press = (event: KeyboardEvent) => {
    // Links and buttons within have their own keys.
    if ((event.target as Element).closest("a, button")) return;
    const page = Math.max(1, Math.floor((scroller.current?.clientHeight ?? 0) / ROW) - 3);
    const next = pressed(event, sheet, selection, page);
    if (next) onSelect(next);
    else if (event.key === " " && selection) onToggle();
    else if (event.key === "Enter" && selection) onOpen();
    else return;
    event.preventDefault();
  };

  if (sheet.sources.length === 0) {
    return (
      <Box sx={{ m: "auto", textAlign: "center", maxWidth: 440, color: "text.secondary" }}>
        <p>Rows are your sources: files, folders, whole camera cards. Columns are what each of them shall become.</p>
        <Button
          variant="contained"
          onClick={() => {
            onAdd("sources");
          }}
        >
          Add sources
        </Button>
      </Box>
    );
  }
  return (
    <Grid
      ref={scroller}
      role="grid"
      aria-label={sheet.name}
      aria-multiselectable
      aria-rowcount={sheet.sources.length + 2}
      aria-colcount={columns + 2}
      tabIndex={selection ? -1 : 0}
      onKeyDown={press}
      onClick={pick}
    >
      <div className="all" style={{ height: rows.getTotalSize() + ROW, minWidth: width }}>
        <div role="row" aria-rowindex={1} className="row heads" style={template}>
          <HeadCell column={1} label="Choose all cells (Ctrl+A)" place={{ all: true }}>
            <span className="quiet low">Source</span>
          </HeadCell>
          {sheet.deliverables.map((deliverable, number) => (
            <ColumnHead key={deliverable.id} deliverable={deliverable} column={number + 2} />
          ))}
          {columns === 0 && (
            <HeadCell column={2}>
              <Button
                variant="contained"
                sx={{ m: "auto" }}
                onClick={() => {
                  onAdd("deliverable");
                }}
              >
                Add a deliverable
              </Button>
            </HeadCell>
          )}
          <HeadCell column={columns + 2}>
            <span className="quiet low">Row total</span>
          </HeadCell>
        </div>
        {rows.getVirtualItems().map((item) => {
          const source = sheet.sources[item.index];
          if (!source) return null;
          const cells = sheet.cells.slice(item.index * columns, (item.index + 1) * columns);
          return (
            <div
              key={source.id}
              role="row"
              aria-rowindex={item.index + 2}
              className="row"
              style={{ ...template, top: item.start }}
            >
              <RowHead sheet={sheet.id} source={source} />
              {cells.map((cell, number) => {
                const id = idOf(cell);
                return (
                  <OutputCell
                    key={cell.deliverable}
                    cell={cell}
                    size={weightTaken(source)}
                    isChosen={selection?.cells.has(id) ?? false}
                    isCursor={id === cursor}
                    column={number + 2}
                  />
                );
              })}
              {columns === 0 && <div />}
              <div role="gridcell" className="sum" aria-colindex={columns + 2}>
                {sizeText(sum.rows[item.index]?.after ?? 0)}
              </div>
            </div>
          );
        })}
        <div
          role="row"
          aria-rowindex={sheet.sources.length + 2}
          data-testid="column-totals"
          className="row sums"
          style={template}
        >
          <div role="gridcell" className="sum">
            Column total
          </div>
          {sum.columns.map((sum, place) => (
            <div key={sheet.deliverables[place]?.id} role="gridcell" className="sum">
              {sizeText(sum.after)}
            </div>
          ))}
          {columns === 0 && <div />}
          <div role="gridcell" className="sum">
            {sizeText(sum.all.after)}
          </div>
        </div>
      </div>
    </Grid>
  );
}

interface HeadProps {
  children: ReactNode;
  /** Its number, from 1. */
  column: number;
  label?: string;
  place?: Place;
}

function HeadCell({ children, column, label, place }: HeadProps) {
  return (
    <div role="columnheader" className="head" aria-colindex={column} title={label} {...(place && marked(place))}>
      {children}
    </div>
  );
}

function ColumnHead({ deliverable, column }: { deliverable: Deliverable; column: number }) {
  return (
    <HeadCell column={column} label={`${deliverable.preset.name}: choose its cells`} place={{ column: deliverable.id }}>
      <b>{deliverable.preset.name}</b>
      <span className="quiet">{deliverable.headline}</span>
      <span className="quiet apart">
        <span className="quiet">{deliverable.frame}</span>
        <span>{deliverable.storage ? `${deliverable.folder}/` : "next to the source"}</span>
      </span>
    </HeadCell>
  );
}
