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
import { styled } from "@mui/material/styles";
import TextField from "@mui/material/TextField";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type MouseEvent, useState } from "react";
import { Link } from "react-router";
import { api, type Entry } from "../api/client";
import { sheetAgain } from "../api/live";
import { Choice } from "../shared/Choice";
import { ClipSign, FolderSign } from "../shared/icons";
import { useTell } from "../shared/messages";
import type { Place } from "../shared/PlaceField";
import { remember, remembered } from "../shared/remembered";
import { reachText, useStorages } from "../shared/storages";
import { plural, sizeText } from "../shared/words";
import { chosenFiles, useUploads } from "../uploads/uploads";
import { orderedEntries, type EntryOrder, ENTRY_ORDERS, range } from "./entries";

const LAST_PLACE = "sources.place";

const Entry = styled("div")(({ theme: { palette, spacing } }) => ({
  display: "flex",
  alignItems: "center",
  gap: spacing(1),
  borderBottom: `1px solid ${palette.divider}`,
  "&:hover": { backgroundColor: palette.action.hover },
}));

const Choose = styled("button")(({ theme: { spacing } }) => ({
  all: "unset",
  flex: 1,
  cursor: "pointer",
  padding: spacing(0.75, 0),
}));

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
  const upload = useUploads();
  const [search, setSearch] = useState("");
  const [order, setOrder] = useState<EntryOrder>("name");
  // Where the list begins that Shift chooses.
  const [anchor, setAnchor] = useState<string | null>(null);

  const toggle = (path: string, isRange: boolean) => {
    const next = new Set(chosen);
    if (isRange && anchor !== null) for (const one of range(offered, anchor, path)) next.add(one);
    else if (!next.delete(path)) next.add(path);
    setAnchor(path);
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
  const present = (entries ?? []).filter((entry) => entry.is_folder || entry.is_media);
  const offered = orderedEntries(present, search, order);
  const files = offered.filter((entry) => !entry.is_folder);
  const parts = folder === "" ? [] : folder.split("/");
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="sm" aria-labelledby="add-sources">
      <DialogTitle
        id="add-sources"
        sx={{ fontSize: 16, fontWeight: 700, display: "flex", alignItems: "center", gap: 2, flexWrap: "wrap" }}
      >
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
        <Box sx={{ display: "flex", gap: 1, mb: 1, pt: 1 }}>
          <TextField
            size="small"
            type="search"
            label="Search this folder"
            value={search}
            onChange={(event) => {
              setSearch(event.target.value);
            }}
            sx={{ flex: 1 }}
          />
          <Choice
            label="Order"
            value={order}
            options={ENTRY_ORDERS.map((one) => ({ value: one, words: one }))}
            onChange={setOrder}
          />
        </Box>
        <Box sx={{ display: "flex", gap: 0.5, mb: 1, flexWrap: "wrap" }}>
          <Button
            color="inherit"
            onClick={() => {
              setFolder("");
            }}
          >
            {storages?.find((one) => one.id === storage)?.name ?? "Storage"}
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
        {entries && offered.length === 0 && (
          <Box sx={{ color: "text.secondary" }}>
            {present.length === 0 ? "No media here." : "Nothing here is called so."}
          </Box>
        )}
        {offered.map((entry) => (
          <EntryRow
            key={entry.path}
            entry={entry}
            picture={api.entryPicture(storage, entry.path)}
            isChosen={chosen.has(entry.path)}
            onToggle={(isRange) => {
              toggle(entry.path, isRange);
            }}
            onEnter={() => {
              setFolder(entry.path);
            }}
          />
        ))}
      </DialogContent>
      <DialogActions>
        {files.length > 0 && (
          <Button
            color="inherit"
            data-testid="choose-all"
            onClick={() => {
              setChosen(new Set([...chosen, ...files.map((entry) => entry.path)]));
            }}
          >
            {`Choose all ${String(files.length)} files`}
          </Button>
        )}
        <Button color="inherit" component="label" title="They are uploaded to a storage and become sources">
          From this computer
          <input
            type="file"
            multiple
            hidden
            data-testid="from-here"
            onChange={(event) => {
              const files = chosenFiles(event.target.files ?? new DataTransfer().files);
              if (files.length === 0) return;
              upload({ files, sheet });
              onClose();
            }}
          />
        </Button>
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
  picture,
  isChosen,
  onToggle,
  onEnter,
}: {
  entry: Entry;
  /** The address of a small picture of it. */
  picture: string;
  isChosen: boolean;
  /** With Shift, all from the one before are meant. */
  onToggle: (isRange: boolean) => void;
  onEnter: () => void;
}) {
  const press = (event: MouseEvent) => {
    if (entry.is_folder) onEnter();
    else onToggle(event.shiftKey);
  };
  return (
    <Entry>
      <Checkbox
        size="small"
        checked={isChosen}
        onClick={(event) => {
          onToggle(event.shiftKey);
        }}
        slotProps={{ input: { "aria-label": `Choose ${entry.name}` } }}
      />
      <Box sx={{ color: "text.secondary", display: "flex" }}>
        {entry.is_folder ? <FolderSign /> : <Peek picture={picture} />}
      </Box>
      <Choose onClick={press}>{entry.name}</Choose>
      <Box sx={{ color: "text.secondary", fontSize: 12 }}>
        {entry.is_folder ? "folder, recursive" : `${entry.is_own ? "own output · " : ""}${sizeText(entry.size)}`}
      </Box>
    </Entry>
  );
}

const Small = styled("img")({ width: 64, height: 36, objectFit: "contain", background: "#000", borderRadius: 3 });

/** A small picture of a file, asked for when it comes into sight; the sign of a clip where there is none. */
function Peek({ picture }: { picture: string }) {
  const [isMissing, setMissing] = useState(false);
  if (isMissing) return <ClipSign />;
  return (
    <Small
      src={picture}
      alt=""
      loading="lazy"
      onError={() => {
        setMissing(true);
      }}
    />
  );
}
