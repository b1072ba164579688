/** A column, new or changed: a preset, a destination, a name. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import TextField from "@mui/material/TextField";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Deliverable, type Preset, type PresetItem } from "../api/client";
import { sheetAgain, showColumn } from "../api/live";
import { patternExample, tokensOf, tokenWords, useCatalogue } from "../catalogue/catalogue";
import { ClashField } from "../shared/ClashField";
import { DIALOG_PARTS } from "../shared/twoParts";
import { useTell } from "../shared/messages";
import { type Place, PlaceField } from "../shared/PlaceField";
import { PresetList } from "../shared/PresetList";
import { remember, remembered } from "../shared/remembered";

const USUAL_PATTERN = "<name>_<preset>";
/** Under this name the last destination is kept. */
const LAST_PLACE = "deliverable.place";

interface Props {
  sheet: string;
  /** The column to change; nothing for a new one. */
  column: Deliverable | null;
  onClose: () => void;
}

export function DeliverableDialog({ sheet, column, onClose }: Props) {
  const [presets, setPresets] = useState<Preset[]>(column ? [column.preset] : []);
  const preset = presets.length === 1 ? (presets[0] ?? null) : null;
  const [place, setPlace] = useState<Place>(() =>
    column
      ? { storage: column.storage ?? null, folder: column.folder }
      : remembered<Place>(LAST_PLACE, { storage: null, folder: "" }),
  );
  const [pattern, setPattern] = useState(column?.name_pattern ?? USUAL_PATTERN);
  const [clash, setClash] = useState<Deliverable["clash"]>(column?.clash ?? "number");
  const { refuse, tell } = useTell();
  const client = useQueryClient();
  const tokens = tokensOf(useCatalogue());
  const example = patternExample(pattern, tokens, { preset: preset?.id, codec: preset?.picture?.codec });

  const choose = (item: PresetItem) => {
    if (column) {
      setPresets([item.preset]);
      return;
    }
    const others = presets.filter((one) => one.id !== item.preset.id);
    const next = others.length < presets.length ? others : [...presets, item.preset];
    setPresets(next);
    if (next.length === 1) setPattern(next[0]?.name_pattern ?? USUAL_PATTERN);
  };
  const save = async () => {
    const rest = { storage: place.storage, folder: place.folder, clash };
    try {
      if (column) {
        if (!preset) return;
        const wanted = { ...rest, preset, name_pattern: pattern };
        const before = {
          preset: column.preset,
          storage: column.storage ?? null,
          folder: column.folder,
          name_pattern: column.name_pattern,
          clash: column.clash,
        };
        showColumn(client, sheet, await api.changeDeliverable(column.id, wanted));
        tell(`“${preset.name}” is changed; what it made before stays.`, () => api.changeDeliverable(column.id, before));
      } else {
        // Several get their names each by its own preset.
        for (const one of presets)
          await api.addDeliverable(sheet, {
            ...rest,
            preset: one,
            name_pattern: preset ? pattern : (one.name_pattern ?? USUAL_PATTERN),
          });
        remember(LAST_PLACE, place);
        await sheetAgain(client, sheet);
      }
      onClose();
    } catch (error) {
      refuse(error);
    }
  };
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="md">
      <DialogTitle>{column ? `Change “${column.preset.name}”` : "Add a deliverable"}</DialogTitle>
      <DialogContent sx={DIALOG_PARTS}>
        <PresetList chosen={presets.map((one) => one.id)} onChoose={choose} isMultiple={!column} />
        <Box sx={{ width: { md: 300 }, flex: "none", display: "flex", flexDirection: "column", gap: 2, pt: 1 }}>
          <PlaceField mayBeBeside label="Destination" place={place} onChange={setPlace} />
          {presets.length > 1 ? (
            <Box sx={{ color: "text.secondary", fontSize: 12 }}>Each is named as its preset says.</Box>
          ) : (
            <TextField
              size="small"
              label="Name pattern"
              value={pattern}
              onChange={(event) => {
                setPattern(event.target.value);
              }}
              helperText={`Such as ${example}.${preset?.container ?? "mp4"}. ${tokenWords(tokens)}`}
            />
          )}
          <ClashField clash={clash} onChange={setClash} />
        </Box>
      </DialogContent>
      <DialogActions>
        <Button color="inherit" onClick={onClose}>
          Cancel
        </Button>
        <Button
          variant="contained"
          disabled={presets.length === 0}
          onClick={() => void save()}
          data-testid="confirm-deliverable"
        >
          {column ? "Save" : presets.length > 1 ? `Add ${String(presets.length)}` : `Add ${preset?.name ?? ""}`}
        </Button>
      </DialogActions>
    </Dialog>
  );
}
