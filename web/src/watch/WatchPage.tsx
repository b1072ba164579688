/** Watch folders, each a channel through which files flow. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type WatchFolder } from "../api/client";
import { keys } from "../api/live";
import { useActions } from "../shared/actions";
import { Bar, Key } from "../shared/Bar";
import { useTell } from "../shared/messages";
import { Pending } from "../shared/Pending";
import { plural, sizeText } from "../shared/words";
import { Channel } from "./Channel";
import { WatchDialog } from "./WatchDialog";

/** A file that settles is told by the second. */
const WHILE_SETTLING = 1000;

interface Question {
  folder: WatchFolder;
  files: number;
  bytes: number;
}

export default function WatchPage() {
  const settles = (folders: WatchFolder[] | undefined) =>
    folders?.some((folder) => folder.stages.some((stage) => stage.state === "settling"));
  const {
    data: folders,
    error,
    refetch,
  } = useQuery({
    queryKey: keys.watch,
    queryFn: api.watchFolders,
    staleTime: 0,
    refetchInterval: (query) => (settles(query.state.data) ? WHILE_SETTLING : false),
  });
  const [edited, setEdited] = useState<WatchFolder | "new" | null>(null);
  const [asked, setAsked] = useState<Question | null>(null);
  const { tell, refuse } = useTell();
  const add = () => {
    setEdited("new");
  };
  useActions([{ name: "New watch folder", key: "n", run: add }]);
  const remove = (folder: WatchFolder) => {
    api
      .removeWatchFolder(folder.id)
      .then(() => {
        tell(`“${folder.name}” is removed; files, outputs and what is in the queue stay.`, async () => {
          await api.restoreWatchFolder(folder.id);
          if (folder.is_on) await api.switchWatch(folder.id, "on", "leave");
        });
      })
      .catch(refuse);
  };
  const switchOver = async (folder: WatchFolder) => {
    try {
      if (folder.is_on) {
        await api.switchWatch(folder.id, "off");
        // What has come meanwhile is not taken up by that.
        tell(`“${folder.name}” is switched off.`, () => api.switchWatch(folder.id, "on", "leave"));
        return;
      }
      const inside = await api.insideWatch(folder.id);
      if (inside.files > 0) setAsked({ folder, ...inside });
      else await api.switchWatch(folder.id, "on", null);
    } catch (error) {
      refuse(error);
    }
  };
  const answer = (present: "take" | "leave") => {
    if (asked) api.switchWatch(asked.folder.id, "on", present).catch(refuse);
    setAsked(null);
  };
  const on = folders?.filter((folder) => folder.is_on).length ?? 0;
  return (
    <>
      <Bar title="Watch" detail={folders && `${plural(folders.length, "folder")}, ${String(on)} on`}>
        <Button variant="contained" onClick={add}>
          New watch folder<Key onAccent>N</Key>
        </Button>
      </Bar>
      <Box sx={{ flex: 1, overflow: "auto", p: 2, display: "flex", flexDirection: "column", gap: 1.5 }}>
        {!folders && <Pending error={error} onAgain={() => void refetch()} />}
        {folders?.length === 0 && (
          <Box sx={{ m: "auto", maxWidth: 460, textAlign: "center", color: "text.secondary" }}>
            <p>
              A watch folder is one that works by itself: what is copied into it waits until the copy is whole, and
              becomes the outputs you set.
            </p>
            <Button variant="contained" onClick={add}>
              Set up the first
            </Button>
          </Box>
        )}
        {folders?.map((folder) => (
          <Channel
            key={folder.id}
            folder={folder}
            onSwitch={() => void switchOver(folder)}
            onChange={() => {
              setEdited(folder);
            }}
            onRemove={() => {
              remove(folder);
            }}
          />
        ))}
      </Box>
      {edited && (
        <WatchDialog
          folder={edited === "new" ? null : edited}
          onClose={() => {
            setEdited(null);
          }}
        />
      )}
      {asked && (
        <Dialog
          open
          onClose={() => {
            setAsked(null);
          }}
        >
          <DialogTitle>
            {plural(asked.files, "file")} {asked.files === 1 ? "is" : "are"} in “{asked.folder.name}” already
          </DialogTitle>
          <DialogContent>
            They weigh {sizeText(asked.bytes)}. Shall outputs be made of them too, or only of what arrives from now on?
          </DialogContent>
          <DialogActions>
            <Button
              color="inherit"
              onClick={() => {
                setAsked(null);
              }}
            >
              Stay off
            </Button>
            <Button
              variant="outlined"
              onClick={() => {
                answer("leave");
              }}
              data-testid="present-leave"
            >
              New files only
            </Button>
            <Button
              variant="contained"
              onClick={() => {
                answer("take");
              }}
              data-testid="present-take"
            >
              Include them
            </Button>
          </DialogActions>
        </Dialog>
      )}
    </>
  );
}
