/** Files dropped onto a sheet: where they go, how far they are, and then they are sources. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import LinearProgress from "@mui/material/LinearProgress";
import { useQueryClient } from "@tanstack/react-query";
import { type DragEvent, type ReactNode, useState } from "react";
import { api } from "../api/client";
import { sheetAgain } from "../api/live";
import { useTell } from "../shared/messages";
import { type Place, PlaceField } from "../shared/PlaceField";
import { remember, remembered } from "../shared/remembered";
import { useStorages } from "../shared/storages";
import { plural, sizeText, spanText } from "../shared/words";
import type { BatchState, Dropped, UploadBatch } from "./batch";

const LAST_PLACE = "upload.place";

export function DropArea({ sheet, children }: { sheet: string; children: ReactNode }) {
  const [over, setOver] = useState(false);
  const [dropped, setDropped] = useState<Dropped[]>([]);
  const [batch, setBatch] = useState<UploadBatch | null>(null);
  const [state, setState] = useState<BatchState | null>(null);
  const { tell, refuse } = useTell();
  const client = useQueryClient();

  const take = (event: DragEvent) => {
    event.preventDefault();
    setOver(false);
    // The list of items is gone when the event has passed: entries are asked for at once.
    const entries = [...event.dataTransfer.items]
      .map((item) => item.webkitGetAsEntry())
      .filter((entry) => entry !== null);
    import("./batch")
      .then(({ droppedFiles }) => droppedFiles(entries))
      .then((files) => {
        if (files.length === 0) tell("There was no file in what was dropped.");
        else setDropped(files);
      })
      .catch(refuse);
  };
  const start = async (place: Place) => {
    remember(LAST_PLACE, place);
    setDropped([]);
    const { UploadBatch } = await import("./batch");
    const batch = new UploadBatch(dropped, place.storage ?? "", place.folder, setState);
    setBatch(batch);
    await batch.run();
    setBatch(null);
    setState(null);
    if (batch.paths.length > 0) {
      const { added } = await api.addSources(sheet, place.storage ?? "", batch.paths);
      await sheetAgain(client, sheet);
      tell(`${plural(batch.paths.length, "file")} copied, ${plural(added, "source")} added.`);
    }
    const { end } = batch.state;
    if (typeof end === "object")
      refuse(
        new Error(`${batch.state.name} could not be copied: ${end.failed}. Drop it again: it goes on where it was.`),
      );
  };
  return (
    <Box
      data-testid="drop-area"
      onDragOver={(event) => {
        if (!event.dataTransfer.types.includes("Files")) return;
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={(event) => {
        if (!event.currentTarget.contains(event.relatedTarget as Node | null)) setOver(false);
      }}
      onDrop={take}
      sx={{ position: "relative", flex: 1, minHeight: 0, display: "flex", flexDirection: "column" }}
    >
      {children}
      {over && (
        <Box
          sx={{
            position: "absolute",
            inset: 8,
            zIndex: 5,
            border: "2px dashed",
            borderColor: "primary.main",
            borderRadius: 3,
            bgcolor: "background.default",
            opacity: 0.92,
            display: "grid",
            placeItems: "center",
            fontSize: 18,
            fontWeight: 700,
            pointerEvents: "none",
          }}
        >
          Drop files or folders: they are copied into a storage and become sources
        </Box>
      )}
      {state && batch && (
        <Progress
          state={state}
          onStop={() => {
            batch.stop();
          }}
        />
      )}
      {dropped.length > 0 && (
        <WhereTo
          files={dropped}
          onStart={(place) => {
            start(place).catch(refuse);
          }}
          onClose={() => {
            setDropped([]);
          }}
        />
      )}
    </Box>
  );
}

function WhereTo({
  files,
  onStart,
  onClose,
}: {
  files: Dropped[];
  onStart: (place: Place) => void;
  onClose: () => void;
}) {
  const { data: storages = [] } = useStorages();
  const [wanted, setWanted] = useState<Place>(() => remembered<Place>(LAST_PLACE, { storage: null, folder: "" }));
  // A storage that is gone meanwhile, or none yet: the first one is as good as any.
  const known = storages.some((storage) => storage.id === wanted.storage);
  const place = known ? wanted : { storage: storages[0]?.id ?? null, folder: "" };
  const bytes = files.reduce((sum, { file }) => sum + file.size, 0);
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="xs">
      <DialogTitle sx={{ fontSize: 16, fontWeight: 700 }}>
        {plural(files.length, "file")}, {sizeText(bytes)}
      </DialogTitle>
      <DialogContent>
        <Box sx={{ color: "text.secondary", mb: 2, maxHeight: 120, overflow: "auto", fontSize: 12 }}>
          {files.slice(0, 50).map(({ path }) => (
            <Box key={path}>{path}</Box>
          ))}
          {files.length > 50 && <Box>and {files.length - 50} more</Box>}
        </Box>
        <PlaceField label="Copied into" place={place} onChange={setWanted} />
      </DialogContent>
      <DialogActions sx={{ px: 3, pb: 2 }}>
        <Button color="inherit" onClick={onClose}>
          Cancel
        </Button>
        <Button
          variant="contained"
          disabled={!place.storage}
          onClick={() => {
            onStart(place);
          }}
          data-testid="confirm-upload"
        >
          Copy and add
        </Button>
      </DialogActions>
    </Dialog>
  );
}

function Progress({ state, onStop }: { state: BatchState; onStop: () => void }) {
  const left = state.pace > 0 ? (state.bytes - state.sent) / state.pace : 0;
  return (
    <Box
      role="status"
      data-testid="upload-progress"
      sx={{
        position: "absolute",
        right: 16,
        bottom: 74,
        zIndex: 4,
        width: 360,
        bgcolor: "background.paper",
        border: 1,
        borderColor: "divider",
        borderRadius: 2,
        p: 1.5,
      }}
    >
      <Box sx={{ display: "flex", alignItems: "center" }}>
        <Box sx={{ flex: 1, fontWeight: 600, overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" }}>
          Copying {state.name}
        </Box>
        <Button color="inherit" onClick={onStop}>
          Stop
        </Button>
      </Box>
      <LinearProgress
        variant="determinate"
        value={state.bytes > 0 ? (state.sent / state.bytes) * 100 : 100}
        sx={{ my: 0.75 }}
      />
      <Box sx={{ color: "text.secondary", fontSize: 12 }}>
        {state.done} of {plural(state.files, "file")} · {sizeText(state.sent)} of {sizeText(state.bytes)}
        {state.pace > 0 && ` · ${sizeText(state.pace)}/s · about ${spanText(left)} left`}
      </Box>
    </Box>
  );
}
