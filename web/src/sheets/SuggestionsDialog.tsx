/** What follows from the findings of many sources: taken for all of them at once. */
import { styled } from "@mui/material/styles";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import type { SheetSuggestion } from "../api/client";
import { plural } from "../shared/words";

const Offer = styled("div")(({ theme: { palette, spacing } }) => ({
  display: "flex",
  alignItems: "center",
  gap: spacing(2),
  padding: spacing(1, 0),
  borderBottom: `1px solid ${palette.divider}`,
  "& div": { flex: 1, minWidth: 0 },
  "& b": { display: "block", fontWeight: 600 },
  "& small": { fontSize: 12, color: palette.text.secondary },
}));

/** The sources for which a suggestion is not taken yet. */
function untaken({ sources, taken }: SheetSuggestion): string[] {
  const done = new Set(taken);
  return sources.filter((source) => !done.has(source));
}

interface Props {
  suggestions: SheetSuggestion[];
  /** The rows that are chosen, where only these are meant. */
  rows: readonly string[] | null;
  onTake: (taken: { suggestion: SheetSuggestion; sources: string[] }[]) => void;
  onShow: (suggestion: SheetSuggestion) => void;
  onClose: () => void;
}

export function SuggestionsDialog({ suggestions, rows, onTake, onShow, onClose }: Props) {
  const meant = rows && new Set(rows);
  const offers = suggestions
    .map((suggestion) => ({
      ...suggestion,
      sources: suggestion.sources.filter((source) => !meant || meant.has(source)),
    }))
    .map((suggestion) => ({ ...suggestion, taken: suggestion.taken.filter((source) => !meant || meant.has(source)) }))
    .filter((suggestion) => suggestion.sources.length > 0);
  const open = offers
    .map((suggestion) => ({ suggestion, sources: untaken(suggestion) }))
    .filter(({ sources }) => sources.length > 0);
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="sm" aria-labelledby="what-follows">
      <DialogTitle id="what-follows">Suggestions</DialogTitle>
      <DialogContent>
        {offers.length === 0 && <p>No suggestions for these rows.</p>}
        {offers.map((suggestion) => {
          const left = untaken(suggestion);
          return (
            <Offer key={`${suggestion.subject} ${suggestion.what}`} data-testid="offer">
              <div>
                <b>{suggestion.what}</b>
                <small>
                  {plural(suggestion.sources.length, "source")}
                  {suggestion.taken.length > 0 && `, applied to ${String(suggestion.taken.length)}`}; because{" "}
                  {suggestion.because}
                </small>
              </div>
              <Button
                color="inherit"
                onClick={() => {
                  onShow(suggestion);
                }}
              >
                Show rows
              </Button>
              <Button
                variant="outlined"
                disabled={left.length === 0}
                onClick={() => {
                  onTake([{ suggestion, sources: left }]);
                }}
              >
                {left.length === 0 ? "Applied" : `Apply to ${String(left.length)}`}
              </Button>
            </Offer>
          );
        })}
      </DialogContent>
      <DialogActions>
        <Button color="inherit" onClick={onClose}>
          Close
        </Button>
        <Button
          variant="contained"
          disabled={open.length === 0}
          data-testid="take-all"
          onClick={() => {
            onTake(open);
            onClose();
          }}
        >
          Apply all
        </Button>
      </DialogActions>
    </Dialog>
  );
}
