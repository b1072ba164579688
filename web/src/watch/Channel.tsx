/** One watch folder: files flow from left to right, and each says why it is where it is. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Switch from "@mui/material/Switch";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type WatchFolder, type WatchStage, type WatchState } from "../api/client";
import { keys } from "../api/live";
import { Facet, type FacetState } from "../shared/Facet";
import { ArrowSign } from "../shared/icons";
import { useTell } from "../shared/messages";
import { plural, sizeText } from "../shared/words";

const FLOW: { state: WatchState; word: string; facet: FacetState }[] = [
  { state: "arriving", word: "arriving", facet: "idle" },
  { state: "settling", word: "waiting for copy to finish", facet: "waiting" },
  { state: "working", word: "working", facet: "running" },
  { state: "out", word: "delivered", facet: "done" },
];

const ASIDE: { state: WatchState; word: string; facet: FacetState }[] = [
  { state: "failed", word: "failed", facet: "failed" },
  { state: "left", word: "ignored", facet: "off" },
  { state: "gone", word: "vanished", facet: "cancelled" },
  { state: "own", word: "own output", facet: "off" },
];

/** What taking up a file by hand is called in the states from which it can be. */
const TAKE_WORDS: Partial<Record<WatchState, string>> = {
  left: "Process",
  failed: "Try it again",
  out: "Make it again",
};

interface Props {
  folder: WatchFolder;
  onSwitch: () => void;
  onChange: () => void;
  onRemove: () => void;
}

export function Channel({ folder, onSwitch, onChange, onRemove }: Props) {
  const { data: storages = [] } = useQuery({ queryKey: keys.storages, queryFn: api.storages });
  const [open, setOpen] = useState<WatchState | null>(null);
  const place = (storage: string, path: string) =>
    [storages.find((one) => one.id === storage)?.name ?? "…", path].filter(Boolean).join("/");
  const stage = (state: WatchState) => folder.stages.find((stage) => stage.state === state);
  const toggle = (state: WatchState) => {
    setOpen(open === state ? null : state);
  };
  const aside = ASIDE.filter(({ state }) => stage(state));
  return (
    <Box
      component="section"
      aria-label={folder.name}
      data-testid="watch-folder"
      sx={{
        bgcolor: "background.paper",
        border: 1,
        borderColor: "divider",
        borderRadius: 2,
        flex: "none",
        overflow: "hidden",
      }}
    >
      <Box sx={{ display: "flex", alignItems: "center", gap: 1.5, px: 2, pt: 1.25 }}>
        <Box component="h2" sx={{ m: 0, fontSize: 15, fontWeight: 700 }}>
          {folder.name}
        </Box>
        <Box
          sx={{
            display: "flex",
            alignItems: "center",
            gap: 1,
            color: "text.secondary",
            minWidth: 0,
            "& svg": { width: 14, height: 14, flex: "none" },
          }}
        >
          {place(folder.storage, folder.folder)} <ArrowSign /> {folder.presets.map((preset) => preset.name).join(" · ")}{" "}
          <ArrowSign /> {place(folder.destination_storage, folder.destination)}
        </Box>
        <Box sx={{ flex: 1 }} />
        <Button color="inherit" onClick={onChange}>
          Change
        </Button>
        <Button color="inherit" onClick={onRemove}>
          Remove
        </Button>
        <Box
          component="label"
          sx={{
            display: "flex",
            alignItems: "center",
            fontWeight: 600,
            color: folder.is_on ? "text.primary" : "text.secondary",
          }}
        >
          <Switch
            checked={folder.is_on}
            onChange={onSwitch}
            slotProps={{ input: { "aria-label": `Watch ${folder.name}` } }}
          />
          {folder.is_on ? "on" : "off"}
        </Box>
      </Box>
      {folder.problem && (
        <Box sx={{ mx: 2, mt: 0.5, color: "error.main" }}>
          {folder.problem.what}: {folder.problem.why}.{" "}
          <Box component="span" sx={{ color: "text.secondary" }}>
            {folder.problem.next}
          </Box>
        </Box>
      )}
      <Box
        sx={{
          display: "grid",
          gridTemplateColumns: "repeat(4, 1fr)",
          mt: 1.25,
          borderTop: 1,
          borderColor: "divider",
          opacity: folder.is_on ? 1 : 0.65,
        }}
      >
        {FLOW.map(({ state, word, facet }, number) => (
          <StageBox
            key={state}
            stage={stage(state)}
            state={state}
            word={word}
            facet={facet}
            isFirst={number === 0}
            isOpen={open === state}
            onOpen={() => {
              toggle(state);
            }}
          />
        ))}
      </Box>
      <Box
        sx={{
          display: "flex",
          alignItems: "center",
          gap: 2,
          px: 2,
          py: 0.75,
          borderTop: 1,
          borderColor: "divider",
          color: "text.secondary",
          minHeight: 34,
        }}
      >
        {aside.length === 0 &&
          (folder.is_on
            ? `Files are taken up when they have not changed for ${String(folder.settle_seconds)} s.`
            : "Off: nothing is taken up.")}
        {aside.map(({ state, word, facet }) => (
          <Box
            key={state}
            component="button"
            data-state={state}
            onClick={() => {
              toggle(state);
            }}
            sx={{
              all: "unset",
              display: "flex",
              alignItems: "center",
              gap: 0.75,
              cursor: "pointer",
              color: open === state ? "text.primary" : undefined,
              "&:hover, &:focus-visible": { color: "text.primary", textDecoration: "underline" },
            }}
          >
            <Facet state={facet} size={14} />
            {stage(state)?.count} {word}
          </Box>
        ))}
      </Box>
      {open && <Files folder={folder} state={open} />}
    </Box>
  );
}

interface StageProps {
  stage: WatchStage | undefined;
  state: WatchState;
  word: string;
  facet: FacetState;
  isFirst: boolean;
  isOpen: boolean;
  onOpen: () => void;
}

function StageBox({ stage, state, word, facet, isFirst, isOpen, onOpen }: StageProps) {
  return (
    <Box
      component="button"
      disabled={!stage}
      data-stage={state}
      data-count={stage?.count ?? 0}
      onClick={onOpen}
      sx={{
        all: "unset",
        boxSizing: "border-box",
        display: "flex",
        flexDirection: "column",
        justifyContent: "flex-start",
        px: 2,
        py: 1,
        minHeight: 104,
        minWidth: 0,
        borderLeft: isFirst ? 0 : 1,
        borderColor: "divider",
        bgcolor: isOpen ? "action.selected" : undefined,
        cursor: stage ? "pointer" : "default",
        "&:hover": stage ? { bgcolor: "action.hover" } : {},
      }}
    >
      <Box sx={{ display: "flex", alignItems: "center", gap: 1, mb: 0.5 }}>
        <Facet state={stage ? facet : "idle"} fraction={0.5} />
        <Box sx={{ fontSize: 18, fontWeight: 700, color: stage ? "text.primary" : "text.secondary" }}>
          {stage?.count ?? 0}
        </Box>
        <Box sx={{ color: "text.secondary" }}>{word}</Box>
      </Box>
      {stage?.newest.slice(0, 3).map((file) => (
        <Box
          key={file.path}
          title={file.reason}
          sx={{
            fontSize: 12,
            whiteSpace: "nowrap",
            overflow: "hidden",
            textOverflow: "ellipsis",
            color: "text.secondary",
            direction: "rtl",
            textAlign: "left",
          }}
        >
          <bdi>{file.name}</bdi>
        </Box>
      ))}
    </Box>
  );
}

function Files({ folder, state }: { folder: WatchFolder; state: WatchState }) {
  const { data: files = [] } = useQuery({
    queryKey: keys.watchFiles(folder.id, state),
    queryFn: () => api.watchFiles(folder.id, state),
    staleTime: 0,
  });
  const { tell, refuse } = useTell();
  const take = (paths: string[]) => {
    api
      .takeWatchFiles(folder.id, paths)
      .then(() => {
        tell(`${plural(paths.length, "file")} taken up as if just arrived.`);
      })
      .catch(refuse);
  };
  const canBeTaken = folder.is_on && TAKE_WORDS[state] !== undefined;
  return (
    <Box sx={{ borderTop: 1, borderColor: "divider", maxHeight: 260, overflow: "auto" }}>
      <Box
        component="table"
        sx={{
          width: "100%",
          borderCollapse: "collapse",
          "& td": { px: 2, py: 0.4 },
          "& tr + tr td": { borderTop: 1, borderColor: "divider" },
        }}
      >
        <tbody>
          {files.map((file) => (
            <tr key={file.path} data-file={file.name}>
              <td style={{ fontWeight: 600 }}>{file.name}</td>
              <Box component="td" sx={{ color: "text.secondary", whiteSpace: "nowrap", textAlign: "right" }}>
                {sizeText(file.size)}
              </Box>
              <Box component="td" sx={{ color: "text.secondary", width: "60%" }}>
                {file.reason}
              </Box>
              {canBeTaken && (
                <td style={{ textAlign: "right", whiteSpace: "nowrap" }}>
                  <Button
                    color="inherit"
                    onClick={() => {
                      take([file.path]);
                    }}
                  >
                    {TAKE_WORDS[state]}
                  </Button>
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </Box>
      {canBeTaken && files.length > 1 && (
        <Button
          color="inherit"
          sx={{ m: 1 }}
          onClick={() => {
            take(files.map((file) => file.path));
          }}
        >
          All {files.length} of these
        </Button>
      )}
    </Box>
  );
}
