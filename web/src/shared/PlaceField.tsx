/** A folder of a storage, typed or chosen from what is there. */
import Autocomplete from "@mui/material/Autocomplete";
import Box from "@mui/material/Box";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { api } from "../api/client";
import { reachText, useStorages } from "./storages";

export interface Place {
  /** Nothing for beside the source. */
  storage: string | null;
  folder: string;
}

const BESIDE = "beside";

interface Props {
  label: string;
  place: Place;
  onChange: (place: Place) => void;
  /** Whether “beside its source” is offered. */
  mayBeBeside?: boolean;
}

export function PlaceField({ label, place, onChange, mayBeBeside = false }: Props) {
  const { data: storages = [] } = useStorages();
  const parent = place.folder.includes("/") ? place.folder.slice(0, place.folder.lastIndexOf("/")) : "";
  const { data: entries = [] } = useQuery({
    queryKey: ["entries", place.storage, parent],
    queryFn: () => api.entries(place.storage ?? "", parent),
    enabled: place.storage !== null && place.storage !== "",
    retry: false,
  });
  const folders = entries.filter((entry) => entry.is_folder).map((entry) => entry.path);
  const known = storages.some((storage) => storage.id === place.storage);
  return (
    <Box sx={{ display: "flex", flexDirection: "column", gap: 1 }}>
      <TextField
        select
        size="small"
        label={label}
        value={known ? place.storage : mayBeBeside ? BESIDE : ""}
        onChange={(event) => {
          onChange({
            storage: event.target.value === BESIDE ? null : event.target.value,
            folder: event.target.value === BESIDE ? "" : place.folder,
          });
        }}
      >
        {mayBeBeside && <MenuItem value={BESIDE}>beside its source</MenuItem>}
        {storages.map((one) => (
          <MenuItem key={one.id} value={one.id}>
            {[one.name, reachText(one)].filter(Boolean).join(", ")}
          </MenuItem>
        ))}
      </TextField>
      <Autocomplete
        freeSolo
        disabled={!known}
        options={folders}
        inputValue={place.folder}
        onInputChange={(_, folder) => {
          onChange({ ...place, folder: folder.replace(/^\/+/, "") });
        }}
        renderInput={(props) => <TextField {...props} size="small" label="Subfolder" placeholder="top folder" />}
      />
    </Box>
  );
}
