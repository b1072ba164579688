/** Mending for all outputs of a source: each setting stands above what the presets say, until it is left again. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import Slider from "@mui/material/Slider";
import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Bench } from "../api/client";
import { keys } from "../api/live";
import { Heading } from "../sheets/SlipParts";
import { chosenWay, LEVELS, sections, type Setting, valueAt, withValue } from "./mending";
import type { RowSettings } from "./rowSettings";

export function MendPanel({ bench, row, onClose }: { bench: Bench; row: RowSettings; onClose: () => void }) {
  const { data: aids = [] } = useQuery({ queryKey: keys.aids, queryFn: api.aids });
  const change = (place: string[], value: unknown) => {
    row.set(withValue(row.overrides, place, value));
  };
  return (
    <Box data-testid="mend-panel">
      <Box sx={{ display: "flex", alignItems: "center", mt: 1.5 }}>
        <Box sx={{ fontWeight: 600, flex: 1 }}>For all outputs of this source</Box>
        <Button color="inherit" onClick={onClose}>Close</Button>
      </Box>
      {sections(bench.reading, aids).map((section) => (
        <Box key={section.name}>
          <Heading>{section.name}</Heading>
          {section.settings.filter((setting) => setting.ways.length > 0).map((setting) => (
            <Choice key={setting.name} setting={setting} chosen={chosenWay(row.overrides, setting)} onChoose={(value) => { change(setting.place, value); }} />
          ))}
          {section.name === "Colour" && LEVELS.map((level) => (
            <Level key={level.name} {...level} value={valueAt(row.overrides, ["picture", "adjustment", level.name])} onChange={(value) => { change(["picture", "adjustment", level.name], value); }} />
          ))}
        </Box>
      ))}
    </Box>
  );
}

function Choice({ setting, chosen, onChoose }: { setting: Setting; chosen: number; onChoose: (value: unknown) => void }) {
  return (
    <TextField
      select
      fullWidth
      size="small"
      label={setting.name}
      value={chosen}
      onChange={(event) => { onChoose(setting.ways[Number(event.target.value)]?.value); }}
      data-setting={setting.place.join(".")}
      sx={{ mb: 1, "& .MuiOutlinedInput-notchedOutline": chosen === -1 ? {} : { borderColor: "primary.main" } }}
    >
      <MenuItem value={-1}>as each preset says</MenuItem>
      {chosen === -2 && <MenuItem value={-2}>as set in its document</MenuItem>}
      {setting.ways.map((way, place) => (
        <MenuItem key={way.words} value={place}>{way.words}</MenuItem>
      ))}
    </TextField>
  );
}

interface LevelProps {
  name: string;
  least: number;
  most: number;
  usual: number;
  value: unknown;
  onChange: (value: number | undefined) => void;
}

function Level({ name, least, most, usual, value, onChange }: LevelProps) {
  const set = typeof value === "number" ? value : usual;
  const [moved, setMoved] = useState<number | null>(null);
  return (
    <Box sx={{ display: "flex", alignItems: "center", gap: 1.5 }}>
      <Box sx={{ width: 74, color: "text.secondary" }}>{name}</Box>
      <Slider
        size="small"
        aria-label={name}
        min={least}
        max={most}
        value={moved ?? set}
        onChange={(_, to) => { setMoved(to); }}
        onChangeCommitted={(_, to) => {
          setMoved(null);
          onChange(to === usual ? undefined : to);
        }}
        sx={{ flex: 1 }}
      />
      <Box sx={{ width: 34, textAlign: "right" }}>{moved ?? set}</Box>
    </Box>
  );
}
