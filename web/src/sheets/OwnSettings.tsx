/** Own settings of the chosen outputs: a few fields for what is wanted most, and the document for the rest. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import type { Cell } from "../api/client";
import { MONO } from "../shared/theme";
import { plural } from "../shared/words";
import type { Patch } from "./overrides";
import type { SheetWork } from "./work";

const AS_COLUMN = "column";

interface Choice {
  label: string;
  patch: Patch;
}

const SIZES: Record<string, Choice> = {
  same: { label: "as the source", patch: { rule: "same" } },
  "1080": { label: "within 1920×1080", patch: { rule: "fit", width: 1920, height: 1080, enlarge: false } },
  "720": { label: "within 1280×720", patch: { rule: "fit", width: 1280, height: 720, enlarge: false } },
  "540": { label: "within 960×540", patch: { rule: "fit", width: 960, height: 540, enlarge: false } },
};
const RATES: Record<string, Choice> = {
  same: { label: "as the source, constant", patch: { rule: "same" } },
  keep: { label: "as the source, variable kept", patch: { rule: "keep_variable" } },
  "24": { label: "24", patch: { rule: "constant", rate: "24" } },
  "25": { label: "25", patch: { rule: "constant", rate: "25" } },
  "29.97": { label: "29.97", patch: { rule: "constant", rate: "30000/1001" } },
  "30": { label: "30", patch: { rule: "constant", rate: "30" } },
  "50": { label: "50", patch: { rule: "constant", rate: "50" } },
};
const CHANNELS: Record<string, string> = { same: "as the source", mono: "mono", stereo: "stereo" };

interface Props {
  cells: Cell[];
  work: SheetWork;
  onClose: () => void;
}

export function OwnSettings({ cells, work, onClose }: Props) {
  const [mode, setMode] = useState(AS_COLUMN);
  const [figure, setFigure] = useState("");
  const [size, setSize] = useState(AS_COLUMN);
  const [rate, setRate] = useState(AS_COLUMN);
  const [channels, setChannels] = useState(AS_COLUMN);
  const [document, setDocument] = useState<string | null>(null);
  const [fault, setFault] = useState("");
  const isSet = cells.some((cell) => cell.overrides);

  const patch = (): Patch => {
    const picture: Patch = {};
    const value = Number(figure.replace(",", "."));
    if (mode === "quality" && figure) picture.rate = { mode: "constant_quality", crf: Math.round(value) };
    if ((mode === "one" || mode === "two") && figure) picture.rate = { mode: "average", bits_per_second: Math.round(value * 1e6), passes: mode === "two" ? 2 : 1 };
    if (SIZES[size]) picture.size = SIZES[size].patch;
    if (RATES[rate]) picture.frame_rate = RATES[rate].patch;
    return { ...(Object.keys(picture).length > 0 ? { picture } : {}), ...(channels === AS_COLUMN ? {} : { sound: { channels } }) };
  };
  const save = () => {
    if (document === null) work.adjust(cells, patch());
    else {
      try {
        work.replace(cells, JSON.parse(document) as Patch);
      } catch (error) {
        setFault(String(error));
        return;
      }
    }
    onClose();
  };
  const choose = (label: string, value: string, onChange: (value: string) => void, choices: Record<string, string>) => (
    <TextField select size="small" label={label} value={value} onChange={(event) => { onChange(event.target.value); }}>
      <MenuItem value={AS_COLUMN}>unchanged</MenuItem>
      {Object.entries(choices).map(([key, words]) => (
        <MenuItem key={key} value={key}>{words}</MenuItem>
      ))}
    </TextField>
  );
  const labels = (choices: Record<string, Choice>) => Object.fromEntries(Object.entries(choices).map(([key, choice]) => [key, choice.label]));
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="xs">
      <DialogTitle sx={{ fontSize: 16, fontWeight: 700 }}>Own settings for {plural(cells.length, "output")}</DialogTitle>
      <DialogContent>
        {document === null ? (
          <Box sx={{ display: "flex", flexDirection: "column", gap: 2, pt: 1 }}>
            <Box sx={{ display: "grid", gridTemplateColumns: "1fr 120px", gap: 1 }}>
              {choose("Picture rate", mode, setMode, { quality: "constant quality", one: "average, one pass", two: "average, two passes" })}
              <TextField size="small" label={mode === "quality" ? "CRF" : "Mb/s"} disabled={mode === AS_COLUMN} value={figure} onChange={(event) => { setFigure(event.target.value); }} />
            </Box>
            {choose("Frame size", size, setSize, labels(SIZES))}
            {choose("Frame rate", rate, setRate, labels(RATES))}
            {choose("Sound channels", channels, setChannels, CHANNELS)}
          </Box>
        ) : (
          <TextField multiline fullWidth minRows={10} maxRows={16} value={document} error={fault !== ""} helperText={fault || "A JSON merge patch (RFC 7386) on the column's preset."} onChange={(event) => { setDocument(event.target.value); }} slotProps={{ htmlInput: { "aria-label": "Own settings as a document", style: { fontFamily: MONO, fontSize: 12 } } }} />
        )}
      </DialogContent>
      <DialogActions sx={{ px: 3, pb: 2 }}>
        <Button color="inherit" onClick={() => { setDocument(document === null ? JSON.stringify(cells[0]?.overrides ?? {}, null, 2) : null); }}>{document === null ? "As a document" : "As fields"}</Button>
        {isSet && <Button color="inherit" onClick={() => { work.replace(cells, {}); onClose(); }}>As the column</Button>}
        <Box sx={{ flex: 1 }} />
        <Button color="inherit" onClick={onClose}>Cancel</Button>
        <Button variant="contained" onClick={save} data-testid="confirm-own">Set</Button>
      </DialogActions>
    </Dialog>
  );
}
