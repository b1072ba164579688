/** Choosing files and folders of a storage as sources. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import MenuItem from "@mui/material/MenuItem";
import Select from "@mui/material/Select";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, type Entry } from "../api/client";
import { sheetAgain } from "../api/live";
import { ClipSign, FolderSign } from "../shared/icons";
import { useTell } from "../shared/messages";
import type { Place } from "../shared/PlaceField";
import { remember, remembered } from "../shared/remembered";
import { reachText, useStorages } from "../shared/storages";
import { plural, sizeText } from "../shared/words";

const LAST_PLACE = "sources.place";

export function SourcesDialog({ sheet, onClose }: { sheet: string; onClose: () => void }) {
  const { data: storages } = useStorages();
  const [picked, setPicked] = useState(() => remembered<Place>(LAST_PLACE, { storage: null, folder: "" }));
  // A storage that was forgotten meanwhile: the first one is as good as any.
  const isKnown = storages?.some((one) => one.id === picked.storage);
  const storage = (isKnown ? picked.storage : storages?.[0]?.id) ?? "";
  const folder = isKnown ? picked.folder : "";
  const setFolder = (folder: string) => {
    setPicked({ storage, folder });
  };
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const { data: entries, error } = useQuery({
    queryKey: ["entries", storage, folder],
    queryFn: () => api.entries(storage, folder),
    enabled: storage !== "",
    staleTime: 0,
  });
  const { tell, refuse } = useTell();
  const client = useQueryClient();

  const toggle = (path: string) => {
    const next = new Set(chosen);
    if (!next.delete(path)) next.add(path);
    setChosen(next);
  };
  const add = async () => {
    try {
      const { added, found } = await api.addSources(sheet, storage, [...chosen]);
      tell(
        added === found
          ? `${plural(added, "source")} added.`
          : `${plural(added, "source")} added; ${String(found - added)} stood here already.`,
      );
      remember(LAST_PLACE, { storage, folder });
      await sheetAgain(client, sheet);
      onClose();
    } catch (error) {
      refuse(error);
    }
  };
  const offered = (entries ?? []).filter((entry) => entry.is_folder || entry.is_media);
  const files = offered.filter((entry) => !entry.is_folder);
  const parts = folder === "" ? [] : folder.split("/");
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="sm">
      <DialogTitle sx={{ fontSize: 16, fontWeight: 700, display: "flex", alignItems: "center", gap: 2 }}>
        Add sources
        {storages && storages.length > 0 && (
          <Select
            size="small"
            value={storage}
            onChange={(event) => {
              setPicked({ storage: event.target.value, folder: "" });
              setChosen(new Set());
            }}
            inputProps={{ "aria-label": "Storage" }}
          >
            {storages.map((one) => (
              <MenuItem key={one.id} value={one.id}>
                {[one.name, reachText(one)].filter(Boolean).join(", ")}
              </MenuItem>
            ))}
          </Select>
        )}
      </DialogTitle>
      <DialogContent sx={{ height: 400 }}>
        {storages?.length === 0 && (
          <p>
            There is no storage yet: a storage is a folder that Beryl may use. Add one in the{" "}
            <Link to="/settings">settings</Link>.
          </p>
        )}
        <Box sx={{ display: "flex", gap: 0.5, mb: 1, flexWrap: "wrap" }}>
          <Button
            color="inherit"
            onClick={() => {
              setFolder("");
            }}
          >
            top
          </Button>
          {parts.map((part, place) => (
            <Button
              key={place}
              color="inherit"
              onClick={() => {
                setFolder(parts.slice(0, place + 1).join("/"));
              }}
            >
              / {part}
            </Button>
          ))}
        </Box>
        {error && <p>{error.message}</p>}
        {entries && offered.length === 0 && <Box sx={{ color: "text.secondary" }}>No media here.</Box>}
        {offered.map((entry) => (
          <EntryRow
            key={entry.path}
            entry={entry}
            isChosen={chosen.has(entry.path)}
            onToggle={() => {
              toggle(entry.path);
            }}
            onEnter={() => {
              setFolder(entry.path);
            }}
          />
        ))}
      </DialogContent>
      <DialogActions sx={{ px: 3, pb: 2 }}>
        {files.length > 0 && (
          <Button
            color="inherit"
            onClick={() => {
              setChosen(new Set([...chosen, ...files.map((entry) => entry.path)]));
            }}
          >
            Choose all {files.length} files
          </Button>
        )}
        <Box sx={{ flex: 1 }} />
        <Button color="inherit" onClick={onClose}>
          Cancel
        </Button>
        <Button
          variant="contained"
          disabled={chosen.size === 0}
          onClick={() => void add()}
          data-testid="confirm-sources"
        >
          Add {chosen.size > 0 ? chosen.size : ""}
        </Button>
      </DialogActions>
    </Dialog>
  );
}

function EntryRow({
  entry,
  isChosen,
  onToggle,
  onEnter,
}: {
  entry: Entry;
  isChosen: boolean;
  onToggle: () => void;
  onEnter: () => void;
}) {
  return (
    <Box
      sx={{
        display: "flex",
        alignItems: "center",
        gap: 1,
        borderBottom: 1,
        borderColor: "divider",
        "&:hover": { bgcolor: "action.hover" },
      }}
    >
      <Checkbox
        size="small"
        checked={isChosen}
        onChange={onToggle}
        slotProps={{ input: { "aria-label": `Choose ${entry.name}` } }}
      />
      <Box sx={{ color: "text.secondary", display: "flex" }}>{entry.is_folder ? <FolderSign /> : <ClipSign />}</Box>
      <Box
        component="button"
        onClick={entry.is_folder ? onEnter : onToggle}
        sx={{
          all: "unset",
          flex: 1,
          cursor: "pointer",
          py: 0.75,
        }}
      >
        {entry.name}
      </Box>
      <Box sx={{ color: "text.secondary", fontSize: 12 }}>
        {entry.is_folder ? "folder, with all in it" : sizeText(entry.size)}
      </Box>
    </Box>
  );
}
