/** Which columns are shown, in which order, and how wide. */
import { styled } from "@mui/material/styles";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import TextField from "@mui/material/TextField";
import type { Deliverable } from "../api/client";
import { COLUMN } from "./Grid";
import { movedColumn, orderedColumns, type View } from "./view";

const NARROWEST = 80;
const WIDEST = 480;

const Line = styled("div")(({ theme: { spacing } }) => ({
  display: "flex",
  alignItems: "center",
  gap: spacing(1),
  "& b": { flex: 1, minWidth: 0, overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap", fontWeight: 500 },
  "& .width": { width: 92 },
}));

interface Props {
  deliverables: Deliverable[];
  view: View;
  onChange: (view: View) => void;
  onClose: () => void;
}

export function ColumnsDialog({ deliverables, view, onChange, onClose }: Props) {
  const columns = orderedColumns(deliverables, view);
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="sm" aria-labelledby="columns">
      <DialogTitle id="columns">Columns</DialogTitle>
      <DialogContent>
        {columns.map(({ id, preset }, place) => (
          <Line key={id}>
            <Checkbox
              size="small"
              checked={!view.hidden.includes(id)}
              onChange={(_, isShown) => {
                const others = view.hidden.filter((hidden) => hidden !== id);
                onChange({ ...view, hidden: isShown ? others : [...others, id] });
              }}
              slotProps={{ input: { "aria-label": `Show ${preset.name}` } }}
            />
            <b>{preset.name}</b>
            <Button
              color="inherit"
              disabled={place === 0}
              aria-label={`Move ${preset.name} to the left`}
              onClick={() => {
                onChange(movedColumn(deliverables, view, id, -1));
              }}
            >
              ←
            </Button>
            <Button
              color="inherit"
              disabled={place === columns.length - 1}
              aria-label={`Move ${preset.name} to the right`}
              onClick={() => {
                onChange(movedColumn(deliverables, view, id, 1));
              }}
            >
              →
            </Button>
            <TextField
              className="width"
              size="small"
              type="number"
              label="Width"
              value={view.widths[id] ?? COLUMN}
              onChange={(event) => {
                const width = Math.min(Math.max(Number(event.target.value), NARROWEST), WIDEST);
                onChange({ ...view, widths: { ...view.widths, [id]: width } });
              }}
              slotProps={{
                htmlInput: { min: NARROWEST, max: WIDEST, step: 4, "aria-label": `Width of ${preset.name}` },
              }}
            />
          </Line>
        ))}
      </DialogContent>
      <DialogActions>
        <Button
          color="inherit"
          onClick={() => {
            onChange({ ...view, columns: [], hidden: [], widths: {} });
          }}
        >
          As they were added
        </Button>
        <Button variant="contained" onClick={onClose}>
          Done
        </Button>
      </DialogActions>
    </Dialog>
  );
}
