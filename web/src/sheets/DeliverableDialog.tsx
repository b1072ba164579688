/** A new column: a preset, a destination, a name. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Deliverable, type PresetItem } from "../api/client";
import { keys } from "../api/live";
import { useTell } from "../shared/messages";
import { sizeText } from "../shared/words";

const BESIDE = "beside";

export function DeliverableDialog({ sheet, onClose }: { sheet: string; onClose: () => void }) {
  const { data: presets } = useQuery({ queryKey: keys.presets, queryFn: api.presets });
  const { data: storages } = useQuery({ queryKey: keys.storages, queryFn: api.storages, staleTime: 0 });
  const [chosen, setChosen] = useState<PresetItem | null>(null);
  const [storage, setStorage] = useState(BESIDE);
  const [folder, setFolder] = useState("");
  const [pattern, setPattern] = useState("{source}_{preset}");
  const [clash, setClash] = useState<Deliverable["clash"]>("number");
  const { refuse } = useTell();
  const client = useQueryClient();

  const choose = (item: PresetItem) => {
    setChosen(item);
    setPattern(item.preset.name_pattern ?? "{source}_{preset}");
  };
  const add = async () => {
    if (!chosen) return;
    try {
      await api.addDeliverable(sheet, { preset: chosen.preset, storage: storage === BESIDE ? null : storage, folder, name_pattern: pattern, clash });
      await client.invalidateQueries({ queryKey: keys.sheet(sheet) });
      onClose();
    } catch (error) {
      refuse(error);
    }
  };
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="md">
      <DialogTitle sx={{ fontSize: 16, fontWeight: 700 }}>Add a deliverable</DialogTitle>
      <DialogContent sx={{ display: "flex", gap: 3, height: 430 }}>
        <Box role="listbox" aria-label="Presets" sx={{ flex: 1, overflow: "auto" }}>
          {presets?.map((item) => (
            <Box
              key={item.preset.id}
              component="button"
              role="option"
              aria-selected={item === chosen}
              data-preset={item.preset.id}
              onClick={() => { choose(item); }}
              onDoubleClick={() => void add()}
              sx={{ all: "unset", boxSizing: "border-box", display: "block", width: "100%", px: 1.25, py: 0.75, borderRadius: 1.5, cursor: "pointer", bgcolor: item === chosen ? "action.selected" : undefined, "&:hover": { bgcolor: "action.hover" }, "&:focus-visible": { outline: "2px solid", outlineColor: "primary.main", outlineOffset: -2 } }}
            >
              <Box sx={{ display: "flex", justifyContent: "space-between", gap: 2 }}>
                <Box sx={{ fontWeight: 600 }}>{item.preset.name}</Box>
                <Box sx={{ color: "text.secondary", fontSize: 12, whiteSpace: "nowrap" }}>
                  {item.headline} · {sizeText(item.bytes_per_minute)}/min
                </Box>
              </Box>
              <Box sx={{ color: "text.secondary", fontSize: 12 }}>{item.preset.use_when}</Box>
            </Box>
          ))}
        </Box>
        <Box sx={{ width: 300, display: "flex", flexDirection: "column", gap: 2, pt: 1 }}>
          <TextField select size="small" label="Where it goes" value={storage} onChange={(event) => { setStorage(event.target.value); }}>
            <MenuItem value={BESIDE}>beside its source</MenuItem>
            {storages?.map((one) => (
              <MenuItem key={one.id} value={one.id}>{one.name}</MenuItem>
            ))}
          </TextField>
          <TextField size="small" label="Folder there" value={folder} disabled={storage === BESIDE} onChange={(event) => { setFolder(event.target.value); }} placeholder="such as web" />
          <TextField size="small" label="Name" value={pattern} onChange={(event) => { setPattern(event.target.value); }} helperText={`Such as ${example(pattern, chosen)}. Fields: {source} {folder} {preset} {width} {height} {codec} {rate} {date} {counter}`} />
          <TextField select size="small" label="If the name is taken" value={clash} onChange={(event) => { setClash(event.target.value as Deliverable["clash"]); }}>
            <MenuItem value="number">number the new file</MenuItem>
            <MenuItem value="skip">leave the new file out</MenuItem>
            <MenuItem value="replace">replace the old file</MenuItem>
          </TextField>
        </Box>
      </DialogContent>
      <DialogActions sx={{ px: 3, pb: 2 }}>
        <Button color="inherit" onClick={onClose}>Cancel</Button>
        <Button variant="contained" disabled={!chosen} onClick={() => void add()} data-testid="confirm-deliverable">
          Add {chosen?.preset.name}
        </Button>
      </DialogActions>
    </Dialog>
  );
}

/** What a pattern makes of an invented source; the server makes the real names. */
function example(pattern: string, item: PresetItem | null): string {
  const fields: Record<string, string> = {
    source: "kiln-07_firing_cam-a",
    folder: "card-C014",
    preset: item?.preset.id ?? "web-1080",
    width: "1920",
    height: "1080",
    codec: item?.preset.picture?.codec ?? "pcm",
    rate: "25",
    date: new Date().toISOString().slice(0, 10),
    counter: "001",
  };
  return `${pattern.replace(/\{(\w+)\}/g, (all, field: string) => fields[field] ?? all)}.${item?.preset.container ?? "mp4"}`;
}
