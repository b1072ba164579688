/** A watch folder: what is watched, what arriving files become, and where that goes. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import { api, type Preset, type WatchFolder } from "../api/client";
import { ClashField } from "../shared/ClashField";
import { DIALOG_PARTS } from "../shared/twoParts";
import { useTell } from "../shared/messages";
import { type Place, PlaceField } from "../shared/PlaceField";
import { PresetList } from "../shared/PresetList";

const USUAL_SETTLE = 10;

export function WatchDialog({ folder, onClose }: { folder: WatchFolder | null; onClose: () => void }) {
  const [name, setName] = useState(folder?.name ?? "");
  const [watched, setWatched] = useState<Place>({ storage: folder?.storage ?? "", folder: folder?.folder ?? "" });
  const [destination, setDestination] = useState<Place>({
    storage: folder?.destination_storage ?? "",
    folder: folder?.destination ?? "",
  });
  const [presets, setPresets] = useState<Preset[]>(folder?.presets ?? []);
  const [clash, setClash] = useState(folder?.clash ?? "number");
  const [settle, setSettle] = useState(String(folder?.settle_seconds ?? USUAL_SETTLE));
  const { tell, refuse } = useTell();
  const isWhole = name.trim() !== "" && watched.storage && destination.storage && presets.length > 0;
  const save = async () => {
    if (!watched.storage || !destination.storage) return;
    const wanted = {
      name,
      storage: watched.storage,
      folder: watched.folder,
      presets,
      destination_storage: destination.storage,
      destination: destination.folder,
      clash,
      settle_seconds: Number(settle),
    };
    try {
      if (folder) {
        const { id, storage, presets, destination_storage, destination, clash, settle_seconds } = folder;
        const before = { name: folder.name, storage, folder: folder.folder, presets, destination_storage };
        await api.changeWatchFolder(id, wanted);
        tell(`“${name}” is changed.`, () =>
          api.changeWatchFolder(id, { ...before, destination, clash, settle_seconds }),
        );
      } else {
        const made = await api.addWatchFolder(wanted);
        tell(`“${name}” is added, switched off.`, () => api.removeWatchFolder(made.id));
      }
      onClose();
    } catch (error) {
      refuse(error);
    }
  };
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="md">
      <DialogTitle>{folder ? `Change “${folder.name}”` : "New watch folder"}</DialogTitle>
      <DialogContent sx={DIALOG_PARTS}>
        <Box sx={{ width: { md: 300 }, flex: "none", display: "flex", flexDirection: "column", gap: 2, pt: 1 }}>
          <TextField
            autoFocus
            size="small"
            label="Name"
            value={name}
            onChange={(event) => {
              setName(event.target.value);
            }}
            placeholder="such as Dailies of the kiln"
          />
          <PlaceField label="What is watched" place={watched} onChange={setWatched} />
          <PlaceField label="Where outputs go" place={destination} onChange={setDestination} />
          <ClashField clash={clash} onChange={setClash} />
          <TextField
            size="small"
            type="number"
            label="Stable for (s)"
            value={settle}
            onChange={(event) => {
              setSettle(event.target.value);
            }}
            helperText="before a file counts as whole"
            slotProps={{ htmlInput: { min: 1, max: 3600 } }}
          />
        </Box>
        <PresetList
          chosen={presets.map((preset) => preset.id)}
          onChoose={({ preset }) => {
            const isChosen = presets.some((one) => one.id === preset.id);
            setPresets(isChosen ? presets.filter((one) => one.id !== preset.id) : [...presets, preset]);
          }}
        />
      </DialogContent>
      <DialogActions>
        <Box sx={{ flex: 1, color: "text.secondary" }}>{folder ? "" : "It begins switched off."}</Box>
        <Button color="inherit" onClick={onClose}>
          Cancel
        </Button>
        <Button variant="contained" disabled={!isWhole} onClick={() => void save()} data-testid="confirm-watch">
          Save
        </Button>
      </DialogActions>
    </Dialog>
  );
}
