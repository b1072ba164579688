/** What happens when the name of an output is taken. */
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import type { Deliverable } from "../api/client";

type Clash = Deliverable["clash"];

export function ClashField({ clash, onChange }: { clash: Clash; onChange: (clash: Clash) => void }) {
  return (
    <TextField
      select
      size="small"
      label="If the name is taken"
      value={clash}
      onChange={(event) => {
        onChange(event.target.value as Clash);
      }}
    >
      <MenuItem value="number">number the new file</MenuItem>
      <MenuItem value="skip">leave the new file out</MenuItem>
      <MenuItem value="replace">replace the old file</MenuItem>
    </TextField>
  );
}
