/** Asking for a name. */
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import TextField from "@mui/material/TextField";
import { type SyntheticEvent, useState } from "react";
import { useTell } from "../shared/messages";

interface Props {
  title: string;
  name: string;
  onSave: (name: string) => Promise<unknown>;
  onClose: () => void;
}

export function NameDialog({ title, name, onSave, onClose }: Props) {
  const [typed, setTyped] = useState(name);
  const { refuse } = useTell();
  const save = (event: SyntheticEvent) => {
    event.preventDefault();
    onSave(typed).then(onClose).catch(refuse);
  };
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="xs">
      <form onSubmit={save}>
        <DialogTitle>{title}</DialogTitle>
        <DialogContent>
          <TextField
            autoFocus
            fullWidth
            size="small"
            label="Name"
            value={typed}
            onChange={(event) => {
              setTyped(event.target.value);
            }}
            onFocus={(event) => {
              event.target.select();
            }}
            sx={{ mt: 1 }}
          />
        </DialogContent>
        <DialogActions>
          <Button color="inherit" onClick={onClose}>
            Cancel
          </Button>
          <Button type="submit" variant="contained" disabled={typed.trim() === ""}>
            Save
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}
