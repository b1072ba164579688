/** Files on their way into storages, whatever place of the page is open: how far they are, stopped and gone on with. */
import { styled } from "@mui/material/styles";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import LinearProgress from "@mui/material/LinearProgress";
import { useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useCallback, useEffect, useRef, useState } from "react";
import { api } from "../api/client";
import { sheetAgain } from "../api/live";
import { useTell } from "../shared/messages";
import { type Place, PlaceField } from "../shared/PlaceField";
import { remember, remembered } from "../shared/remembered";
import { useStorages } from "../shared/storages";
import { plural, sizeText, spanText } from "../shared/words";
import type { BatchState, Dropped, UploadBatch } from "./batch";
import { type Offer, UploadContext } from "./uploads";

const LAST_PLACE = "upload.place";

/** A batch on its way, or one that stands still. */
interface Going extends Offer {
  id: number;
  place: Place;
  batch: UploadBatch;
  state: BatchState;
}

export function Uploads({ children }: { children: ReactNode }) {
  const [asked, setAsked] = useState<Offer[]>([]);
  const [going, setGoing] = useState<Going[]>([]);
  const last = useRef(0);
  const { tell, refuse } = useTell();
  const client = useQueryClient();
  const offer = useCallback((next: Offer) => {
    setAsked((others) => [...others, next]);
  }, []);
  const moving = going.some(({ state }) => state.end === "open");
  useEffect(() => {
    if (!moving) return;
    // Whoever leaves the page is asked first: what has come so far stays, but nothing more comes.
    const leave = (event: BeforeUnloadEvent) => {
      event.preventDefault();
    };
    window.addEventListener("beforeunload", leave);
    return () => {
      window.removeEventListener("beforeunload", leave);
    };
  }, [moving]);
  const drop = (id: number) => {
    setGoing((others) => others.filter((other) => other.id !== id));
  };
  const send = async ({ files, sheet }: Offer, place: Place) => {
    const { UploadBatch } = await import("./batch");
    const id = ++last.current;
    const batch = new UploadBatch(files, place.storage ?? "", place.folder, (state) => {
      setGoing((all) => all.map((one) => (one.id === id ? { ...one, state } : one)));
    });
    setGoing((others) => [...others, { id, files, sheet, place, batch, state: batch.state }]);
    await batch.run();
    if (batch.paths.length > 0) {
      const { added } = await api.addSources(sheet, place.storage ?? "", batch.paths);
      await sheetAgain(client, sheet);
      tell(`${plural(batch.paths.length, "file")} uploaded, ${plural(added, "source")} added.`);
    }
    const { end } = batch.state;
    if (end === "done") drop(id);
    if (typeof end === "object")
      refuse(new Error(`${batch.state.name} could not be uploaded: ${end.failed}. Resume it when that is mended.`));
  };
  const start = (files: Offer, place: Place) => {
    send(files, place).catch(refuse);
  };
  const first = asked[0];
  return (
    <UploadContext value={offer}>
      {children}
      {first && (
        <WhereTo
          files={first.files}
          onStart={(place) => {
            remember(LAST_PLACE, place);
            setAsked((others) => others.slice(1));
            start(first, place);
          }}
          onClose={() => {
            setAsked((others) => others.slice(1));
          }}
        />
      )}
      {going.length > 0 && (
        <Stack>
          {going.map((one) => (
            <Progress
              key={one.id}
              state={one.state}
              onStop={() => {
                one.batch.stop();
              }}
              onGoOn={() => {
                drop(one.id);
                start({ files: one.files.slice(one.state.done), sheet: one.sheet }, one.place);
              }}
              onLeave={() => {
                drop(one.id);
              }}
            />
          ))}
        </Stack>
      )}
    </UploadContext>
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
    <Dialog open onClose={onClose} fullWidth maxWidth="xs" aria-labelledby="upload">
      <DialogTitle id="upload">
        {plural(files.length, "file")}, {sizeText(bytes)}
      </DialogTitle>
      <DialogContent>
        <Box sx={{ color: "text.secondary", mb: 2, maxHeight: 120, overflow: "auto", fontSize: 12 }}>
          {files.slice(0, 50).map(({ path }) => (
            <Box key={path}>{path}</Box>
          ))}
          {files.length > 50 && <Box>and {files.length - 50} more</Box>}
        </Box>
        <PlaceField label="Upload to" place={place} onChange={setWanted} />
      </DialogContent>
      <DialogActions>
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
          Upload and add
        </Button>
      </DialogActions>
    </Dialog>
  );
}

const Stack = styled("div")(({ theme: { zIndex, spacing } }) => ({
  position: "fixed",
  right: 16,
  bottom: 74,
  zIndex: zIndex.snackbar,
  width: 360,
  display: "grid",
  gap: spacing(1),
}));

const Card = styled("div")(({ theme: { palette, spacing } }) => ({
  background: palette.background.paper,
  border: `1px solid ${palette.divider}`,
  borderRadius: 8,
  padding: spacing(1.5),
  "& .head": { display: "flex", alignItems: "center" },
  "& b": { flex: 1, fontWeight: 600, overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" },
  "& small": { fontSize: 12, color: palette.text.secondary },
}));

interface ProgressProps {
  state: BatchState;
  onStop: () => void;
  onGoOn: () => void;
  onLeave: () => void;
}

function Progress({ state, onStop, onGoOn, onLeave }: ProgressProps) {
  const left = state.pace > 0 ? (state.bytes - state.sent) / state.pace : 0;
  const isOpen = state.end === "open";
  return (
    <Card data-testid="upload-progress">
      <div className="head">
        <b>{isOpen ? `Uploading ${state.name}` : `${state.name} stopped`}</b>
        {isOpen ? (
          <Button color="inherit" onClick={onStop}>
            Stop
          </Button>
        ) : (
          <>
            <Button onClick={onGoOn}>Resume</Button>
            <Button color="inherit" onClick={onLeave}>
              Dismiss
            </Button>
          </>
        )}
      </div>
      <LinearProgress
        variant="determinate"
        aria-label="Uploaded"
        value={state.bytes > 0 ? (state.sent / state.bytes) * 100 : 100}
        sx={{ my: 0.75 }}
      />
      <small role="status">
        {state.done} of {plural(state.files, "file")} · {sizeText(state.sent)} of {sizeText(state.bytes)}
        {isOpen && state.pace > 0 && ` · ${sizeText(state.pace)}/s · about ${spanText(left)} left`}
      </small>
    </Card>
  );
}
