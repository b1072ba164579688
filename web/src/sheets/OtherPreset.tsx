/** Another preset for the chosen outputs alone. */
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import { useState } from "react";
import type { Preset } from "../api/client";
import { PresetList } from "../shared/PresetList";
import { plural } from "../shared/words";

export function OtherPreset({
  count,
  onTake,
  onClose,
}: {
  count: number;
  onTake: (preset: Preset) => void;
  onClose: () => void;
}) {
  const [chosen, setChosen] = useState<Preset | null>(null);
  const take = () => {
    if (!chosen) return;
    onTake(chosen);
    onClose();
  };
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="sm">
      <DialogTitle>Another preset for {plural(count, "output")}</DialogTitle>
      <DialogContent sx={{ display: "flex", height: 430 }}>
        <PresetList
          chosen={chosen ? [chosen.id] : []}
          onChoose={(item) => {
            setChosen(item.preset);
          }}
          onTake={take}
        />
      </DialogContent>
      <DialogActions>
        <Button color="inherit" onClick={onClose}>
          Cancel
        </Button>
        <Button variant="contained" disabled={!chosen} onClick={take} data-testid="confirm-preset">
          Make as {chosen?.name}
        </Button>
      </DialogActions>
    </Dialog>
  );
}
