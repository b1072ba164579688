/** Choosing a storage: a folder of this machine, found by browsing, and a name for it. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import List from "@mui/material/List";
import ListItemButton from "@mui/material/ListItemButton";
import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../api/client";
import { useTell } from "../shared/messages";
import { Pending } from "../shared/Pending";

/** The name that a folder suggests. */
export function nameOf(path: string): string {
  const last = path.split("/").filter(Boolean).at(-1) ?? "This machine";
  return last.charAt(0).toUpperCase() + last.slice(1);
}

export default function StorageDialog({ onClose }: { onClose: () => void }) {
  const [path, setPath] = useState<string | null>(null);
  const [typed, setTyped] = useState<string | null>(null);
  const { refuse } = useTell();
  const { data, error, refetch } = useQuery({
    queryKey: ["folders", path],
    queryFn: () => api.folders(path),
    staleTime: 0,
    retry: false,
  });
  const here = data?.path ?? null;
  const name = typed ?? (here === null ? "" : nameOf(here));
  const use = () => {
    if (here !== null) api.addStorage(name, here).then(onClose).catch(refuse);
  };
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="sm" aria-labelledby="storage">
      <DialogTitle id="storage">Where are your media?</DialogTitle>
      <DialogContent sx={{ display: "flex", flexDirection: "column", height: 440 }}>
        <Box sx={{ display: "flex", alignItems: "center", gap: 1, minHeight: 34 }}>
          {path !== null && (
            <Button
              color="inherit"
              onClick={() => {
                setPath(data?.parent ?? null);
              }}
            >
              Up
            </Button>
          )}
          <Box sx={{ color: "text.secondary", overflowWrap: "anywhere" }} data-testid="folder">
            {here ?? "Volumes and folders of this machine"}
          </Box>
        </Box>
        {data ? (
          <List dense aria-label="Folders" sx={{ flex: 1, overflow: "auto", border: 1, borderColor: "divider" }}>
            {data.folders.map((folder) => (
              <ListItemButton
                key={folder.path}
                onClick={() => {
                  setPath(folder.path);
                }}
              >
                {here === null && folder.name !== folder.path ? `${folder.name} · ${folder.path}` : folder.name}
              </ListItemButton>
            ))}
            {data.folders.length === 0 && (
              <Box component="li" sx={{ px: 2, py: 1, color: "text.secondary" }}>
                There are no folders in it.
              </Box>
            )}
          </List>
        ) : (
          <Pending error={error} onAgain={() => void refetch()} />
        )}
        {here !== null && (
          <TextField
            sx={{ mt: 2 }}
            size="small"
            label="Its name in Beryl"
            value={name}
            helperText={data?.refusal ?? "What lies in it can be read and written; nothing outside it can be reached."}
            error={data?.refusal != null}
            onChange={(event) => {
              setTyped(event.target.value);
            }}
          />
        )}
      </DialogContent>
      <DialogActions>
        <Button color="inherit" onClick={onClose}>
          Cancel
        </Button>
        <Button
          variant="contained"
          data-testid="use-folder"
          disabled={here === null || data?.refusal != null || name.trim() === ""}
          onClick={use}
        >
          Use this folder
        </Button>
      </DialogActions>
    </Dialog>
  );
}
