/** One watch folder: files flow from left to right, and each says why it is where it is. */
import { styled } from "@mui/material/styles";
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
import { clipped } from "../shared/theme";

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

const Frame = styled("section")(({ theme: { palette } }) => ({
  backgroundColor: palette.background.paper,
  border: `1px solid ${palette.divider}`,
  borderRadius: 16,
  flex: "none",
  overflow: "hidden",
}));

const Way = styled("div")(({ theme: { palette, spacing } }) => ({
  display: "flex",
  alignItems: "center",
  gap: spacing(1),
  color: palette.text.secondary,
  minWidth: 0,
  "& svg": { width: 14, height: 14, flex: "none" },
}));

const OnOff = styled("label", { shouldForwardProp: (prop) => prop !== "isOn" })<{ isOn: boolean }>(
  ({ theme: { palette }, isOn }) => ({
    display: "flex",
    alignItems: "center",
    fontWeight: 600,
    color: isOn ? palette.text.primary : palette.text.secondary,
  }),
);

const Stages = styled("div")(({ theme: { palette, spacing } }) => ({
  display: "grid",
  gridTemplateColumns: "repeat(4, 1fr)",
  marginTop: spacing(1.25),
  borderTop: `1px solid ${palette.divider}`,
}));

const Foot = styled("div")(({ theme: { palette, spacing } }) => ({
  display: "flex",
  alignItems: "center",
  gap: spacing(2),
  padding: spacing(0.75, 2),
  borderTop: `1px solid ${palette.divider}`,
  color: palette.text.secondary,
  minHeight: 34,
}));

const StateButton = styled("button", { shouldForwardProp: (prop) => prop !== "isOpen" })<{ isOpen: boolean }>(
  ({ theme: { palette, spacing }, isOpen }) => ({
    all: "unset",
    display: "flex",
    alignItems: "center",
    gap: spacing(0.75),
    cursor: "pointer",
    color: isOpen ? palette.text.primary : undefined,
    "&:hover, &:focus-visible": { color: palette.text.primary, textDecoration: "underline" },
  }),
);

const StageButton = styled("button", { shouldForwardProp: (prop) => prop !== "isFirst" && prop !== "isOpen" })<{
  isFirst: boolean;
  isOpen: boolean;
}>(({ theme: { palette, spacing }, isFirst, isOpen }) => ({
  all: "unset",
  boxSizing: "border-box",
  display: "flex",
  flexDirection: "column",
  justifyContent: "flex-start",
  padding: spacing(1, 2),
  minHeight: 104,
  minWidth: 0,
  borderLeft: isFirst ? 0 : `1px solid ${palette.divider}`,
  backgroundColor: isOpen ? palette.action.selected : undefined,
  cursor: "pointer",
  "&:hover": { backgroundColor: palette.action.hover },
  "&:disabled": { cursor: "default", backgroundColor: "transparent" },
}));

const FileName = styled("div")(({ theme: { palette } }) => ({
  fontSize: 12,
  color: palette.text.secondary,
  direction: "rtl",
  textAlign: "left",
  ...clipped,
}));

const FileTable = styled("table")(({ theme: { palette, spacing } }) => ({
  width: "100%",
  borderCollapse: "collapse",
  "& td": { padding: spacing(0.4, 2) },
  "& tr + tr td": { borderTop: `1px solid ${palette.divider}` },
}));

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
    <Frame aria-label={folder.name} data-testid="watch-folder">
      <Box sx={{ display: "flex", alignItems: "center", gap: 1.5, px: 2, pt: 1.25 }}>
        <Box component="h2" sx={{ m: 0, fontSize: 15, fontWeight: 700 }}>
          {folder.name}
        </Box>
        <Way>
          {place(folder.storage, folder.folder)} <ArrowSign /> {folder.presets.map((preset) => preset.name).join(" · ")}{" "}
          <ArrowSign /> {place(folder.destination_storage, folder.destination)}
        </Way>
        <Box sx={{ flex: 1 }} />
        <Button color="inherit" onClick={onChange}>
          Change
        </Button>
        <Button color="inherit" onClick={onRemove}>
          Remove
        </Button>
        <OnOff isOn={folder.is_on}>
          <Switch
            checked={folder.is_on}
            onChange={onSwitch}
            slotProps={{ input: { "aria-label": `Watch ${folder.name}` } }}
          />
          {folder.is_on ? "on" : "off"}
        </OnOff>
      </Box>
      {folder.problem && (
        <Box sx={{ mx: 2, mt: 0.5, color: "error.main" }}>
          {folder.problem.what}: {folder.problem.why}.{" "}
          <Box component="span" sx={{ color: "text.secondary" }}>
            {folder.problem.next}
          </Box>
        </Box>
      )}
      <Stages style={{ opacity: folder.is_on ? 1 : 0.65 }}>
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
      </Stages>
      <Foot>
        {aside.length === 0 &&
          (folder.is_on
            ? `Files are taken up when they have not changed for ${String(folder.settle_seconds)} s.`
            : "Off: nothing is taken up.")}
        {aside.map(({ state, word, facet }) => (
          <StateButton
            key={state}
            data-state={state}
            onClick={() => {
              toggle(state);
            }}
            isOpen={open === state}
          >
            <Facet state={facet} size={14} />
            {stage(state)?.count} {word}
          </StateButton>
        ))}
      </Foot>
      {open && <Files folder={folder} state={open} />}
    </Frame>
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
    <StageButton
      disabled={!stage}
      data-stage={state}
      data-count={stage?.count ?? 0}
      onClick={onOpen}
      isFirst={isFirst}
      isOpen={isOpen}
    >
      <Box sx={{ display: "flex", alignItems: "center", gap: 1, mb: 0.5 }}>
        <Facet state={stage ? facet : "idle"} fraction={0.5} />
        <Box sx={{ fontSize: 18, fontWeight: 700, color: stage ? "text.primary" : "text.secondary" }}>
          {stage?.count ?? 0}
        </Box>
        <Box sx={{ color: "text.secondary" }}>{word}</Box>
      </Box>
      {stage?.newest.slice(0, 3).map((file) => (
        <FileName key={file.path} title={file.reason}>
          <bdi>{file.name}</bdi>
        </FileName>
      ))}
    </StageButton>
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
      <FileTable>
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
      </FileTable>
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
