/** What narrows a sheet down to the rows that are wanted, and orders them. */
import { styled } from "@mui/material/styles";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { memo, useRef, useState } from "react";
import type { Deliverable, SheetSuggestion, SourceRow } from "../api/client";
import { useActions } from "../shared/actions";
import { Choice } from "../shared/Choice";
import { plural } from "../shared/words";
import { ColumnsDialog } from "./ColumnsDialog";
import { foldersOf, isNarrowed, ORDERS, STATES, type View, WHOLE } from "./view";

interface Props {
  sources: SourceRow[];
  deliverables: Deliverable[];
  view: View;
  /** How many rows are shown. */
  shown: number;
  suggestions: SheetSuggestion[];
  onChange: (view: View) => void;
  onChooseAll: () => void;
  onSuggestions: () => void;
}

const Strip = styled("div")(({ theme: { palette, spacing } }) => ({
  flex: "none",
  display: "flex",
  flexWrap: "wrap",
  alignItems: "center",
  gap: spacing(1),
  padding: spacing(0.75, 2),
  borderBottom: `1px solid ${palette.divider}`,
  "& .search": { width: 220 },
  "& .count": { color: palette.text.secondary, whiteSpace: "nowrap" },
  "& .rest": { flex: 1 },
}));

const ALL = { value: "", words: "all" } as const;

export const ViewBar = memo(function ViewBar({
  sources,
  deliverables,
  view,
  shown,
  suggestions,
  onChange,
  onChooseAll,
  onSuggestions,
}: Props) {
  const search = useRef<HTMLInputElement>(null);
  const [hasColumns, setColumns] = useState(false);
  const folders = foldersOf(sources);
  const open = suggestions.filter((suggestion) => suggestion.taken.length < suggestion.sources.length);
  const chosen = suggestions.findIndex((suggestion) => suggestion.sources === view.suggested);
  useActions([
    {
      name: "Search the sheet",
      key: "/",
      run: () => {
        search.current?.focus();
      },
    },
    {
      name: "Show all rows",
      enabled: isNarrowed(view),
      run: () => {
        onChange({ ...WHOLE, columns: view.columns, hidden: view.hidden, widths: view.widths, order: view.order });
      },
    },
    { name: "Suggestions for the sheet", key: "t", enabled: suggestions.length > 0, run: onSuggestions },
    {
      name: "Arrange the columns",
      enabled: deliverables.length > 0,
      run: () => {
        setColumns(true);
      },
    },
  ]);
  return (
    <Strip>
      <TextField
        size="small"
        className="search"
        label="Search"
        type="search"
        value={view.search}
        inputRef={search}
        onChange={(event) => {
          onChange({ ...view, search: event.target.value });
        }}
        slotProps={{ htmlInput: { "data-testid": "search" } }}
      />
      <Choice
        label="State"
        value={view.state}
        options={[ALL, ...STATES.map((state) => ({ value: state, words: state }))]}
        onChange={(state) => {
          onChange({ ...view, state });
        }}
      />
      {suggestions.length > 0 && (
        <Choice
          label="Found"
          value={chosen < 0 ? "" : String(chosen)}
          options={[
            ALL,
            ...suggestions.map((suggestion, place) => ({
              value: String(place),
              words: `${suggestion.what} (${String(suggestion.sources.length)})`,
            })),
          ]}
          onChange={(place) => {
            onChange({ ...view, suggested: place === "" ? null : (suggestions[Number(place)]?.sources ?? null) });
          }}
        />
      )}
      {folders.length > 0 && (
        <Choice
          label="Folder"
          value={view.folder === null ? "" : `/${view.folder}`}
          options={[ALL, ...folders.map((folder) => ({ value: `/${folder}`, words: folder || "the top" }))]}
          onChange={(folder) => {
            onChange({ ...view, folder: folder === "" ? null : folder.slice(1) });
          }}
        />
      )}
      <Choice
        label="Order"
        value={view.order}
        options={ORDERS.map((order) => ({ value: order, words: order }))}
        onChange={(order) => {
          onChange({ ...view, order });
        }}
      />
      {isNarrowed(view) && (
        <>
          <span className="count" role="status" data-testid="shown">
            {String(shown)} of {plural(sources.length, "row")}
          </span>
          <Button color="inherit" disabled={shown === 0} onClick={onChooseAll} data-testid="choose-shown">
            Choose them
          </Button>
          <Button
            color="inherit"
            onClick={() => {
              onChange({ ...view, search: "", state: "", folder: null, suggested: null });
            }}
          >
            Show all
          </Button>
        </>
      )}
      <span className="rest" />
      {view.hidden.length > 0 && <span className="count">{plural(view.hidden.length, "column")} hidden</span>}
      <Button
        color="inherit"
        data-testid="columns"
        disabled={deliverables.length === 0}
        onClick={() => {
          setColumns(true);
        }}
      >
        Columns
      </Button>
      {suggestions.length > 0 && (
        <Button variant={open.length > 0 ? "outlined" : "text"} onClick={onSuggestions} data-testid="suggestions">
          {open.length > 0 ? plural(open.length, "suggestion") : "Suggestions"}
        </Button>
      )}
      {hasColumns && (
        <ColumnsDialog
          deliverables={deliverables}
          view={view}
          onChange={onChange}
          onClose={() => {
            setColumns(false);
          }}
        />
      )}
    </Strip>
  );
});
