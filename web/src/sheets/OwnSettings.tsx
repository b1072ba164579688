/** Settings of the chosen outputs or sources: what is wanted most, all other settings behind it, and the same as JSON. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Cell, type Preset, type Section, type Sheet } from "../api/client";
import { keys } from "../api/live";
import { useCatalogue, valueAt, withValue } from "../catalogue/catalogue";
import { SettingField } from "../catalogue/SettingField";
import { MONO } from "../shared/theme";
import { plural } from "../shared/words";
import type { Patch } from "./overrides";
import { Heading } from "./SlipParts";
import type { SheetWork } from "./work";

/** What is changed for single outputs most. */
const WANTED = ["picture.rate", "picture.size", "picture.frame_rate", "sound.channels"];

interface Props {
  sheet: Sheet;
  cells: Cell[];
  work: SheetWork;
  onClose: () => void;
}

/** Overrides of single outputs. */
export function OwnSettings({ sheet, cells, work, onClose }: Props) {
  // Of one output what it has is changed; of several what is set here is laid over what each has.
  const one = cells.length === 1 ? cells[0] : undefined;
  const columns = sheet.deliverables.filter((column) => cells.some((cell) => cell.deliverable === column.id));
  return (
    <SettingsDialog
      title={`Overrides for ${plural(cells.length, "output")}`}
      initial={one?.overrides ?? {}}
      isSet={cells.some((cell) => cell.overrides)}
      preset={columns.length === 1 ? columns[0]?.preset : undefined}
      unset="as column"
      reset="Reset to column"
      onSet={(wanted, isWhole) => {
        if (isWhole || one) work.replace(cells, wanted);
        else work.adjust(cells, wanted);
      }}
      onClose={onClose}
    />
  );
}

interface RowProps {
  sheet: Sheet;
  /** Ids of sources. */
  sources: string[];
  work: SheetWork;
  onClose: () => void;
}

/** Settings for all outputs of some sources. */
export function RowsSettings({ sheet, sources, work, onClose }: RowProps) {
  const meant = new Set(sources);
  const rows = sheet.sources.filter((source) => meant.has(source.id));
  const one = rows.length === 1 ? rows[0] : undefined;
  return (
    <SettingsDialog
      title={`For all outputs of ${plural(rows.length, "source")}`}
      initial={one?.overrides ?? {}}
      isSet={rows.some((row) => row.overrides)}
      preset={undefined}
      unset="from the preset"
      reset="Clear all"
      onSet={(overrides, isWhole) => {
        const keep = !isWhole && one === undefined;
        work.setRows([{ sources, overrides }], keep, `Settings for ${plural(rows.length, "source")}.`);
      }}
      onClose={onClose}
    />
  );
}

interface DialogProps {
  title: string;
  initial: Patch;
  /** Whether anything is set that can be taken away. */
  isSet: boolean;
  /** What the settings stand above, where it is one. */
  preset: Preset | undefined;
  /** What stands where nothing is set. */
  unset: string;
  /** What takes all settings away. */
  reset: string;
  /** Sets these; as a whole where they take the place of all that there are. */
  onSet: (patch: Patch, isWhole: boolean) => void;
  onClose: () => void;
}

function SettingsDialog({ title, initial, isSet, preset, unset, reset, onSet, onClose }: DialogProps) {
  const [patch, setPatch] = useState<Patch>(initial);
  const [text, setText] = useState<string | null>(null);
  const [fault, setFault] = useState("");
  /** What is typed as JSON; nothing where it cannot be read. */
  const typed = (): Patch | null => {
    try {
      return JSON.parse(text ?? "{}") as Patch;
    } catch (error) {
      setFault(String(error));
      return null;
    }
  };
  const save = () => {
    const wanted = text === null ? patch : typed();
    if (wanted === null) return;
    onSet(wanted, text !== null);
    onClose();
  };
  const turn = () => {
    setFault("");
    if (text === null) {
      setText(JSON.stringify(patch, null, 2));
      return;
    }
    const wanted = typed();
    if (wanted !== null) {
      setPatch(wanted);
      setText(null);
    }
  };
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="xs" aria-labelledby="settings-of">
      <DialogTitle id="settings-of">{title}</DialogTitle>
      <DialogContent>
        {text === null ? (
          <Fields patch={patch} preset={preset} unset={unset} onChange={setPatch} />
        ) : (
          <TextField
            multiline
            fullWidth
            minRows={10}
            maxRows={16}
            value={text}
            error={fault !== ""}
            helperText={fault || "What it sets stands above the presets."}
            onChange={(event) => {
              setText(event.target.value);
            }}
            slotProps={{ htmlInput: { "aria-label": "Overrides as JSON", style: { fontFamily: MONO, fontSize: 12 } } }}
          />
        )}
      </DialogContent>
      <DialogActions>
        <Button color="inherit" onClick={turn}>
          {text === null ? "Edit as JSON" : "Back to form"}
        </Button>
        {isSet && (
          <Button
            color="inherit"
            onClick={() => {
              onSet({}, true);
              onClose();
            }}
          >
            {reset}
          </Button>
        )}
        <Box sx={{ flex: 1 }} />
        <Button color="inherit" onClick={onClose}>
          Cancel
        </Button>
        <Button variant="contained" onClick={save} data-testid="confirm-own">
          Set
        </Button>
      </DialogActions>
    </Dialog>
  );
}

/** The settings of one output: a preset's name and the marks of its source are set elsewhere. */
function outputSections(catalogue: Section[]): Section[] {
  const sections = catalogue.filter((section) => section.name !== "Name");
  const settings = (section: Section) =>
    section.settings.filter((setting) => setting.place !== "parts" && !WANTED.includes(setting.place));
  return sections.map((section) => ({ ...section, settings: settings(section) }));
}

/** `preset` is that of the column, where there is but one. */
function Fields({
  patch,
  preset,
  unset,
  onChange,
}: {
  patch: Patch;
  preset: Preset | undefined;
  unset: string;
  onChange: (patch: Patch) => void;
}) {
  const catalogue = useCatalogue();
  const { data: assets = [] } = useQuery({ queryKey: keys.assets, queryFn: api.assets });
  const [showsAll, setShowsAll] = useState(false);
  const wanted = catalogue.flatMap((section) => section.settings).filter((setting) => WANTED.includes(setting.place));
  const field = (setting: Section["settings"][number]) => (
    <SettingField
      key={setting.place}
      setting={setting}
      value={valueAt(patch, setting.place)}
      inherited={preset && valueAt(preset, setting.place)}
      unset={unset}
      assets={assets}
      languages={[]}
      onChange={(value) => {
        onChange(withValue(patch, setting.place, value));
      }}
    />
  );
  return (
    <Box sx={{ pt: 1 }}>
      {WANTED.flatMap((place) => wanted.filter((setting) => setting.place === place)).map(field)}
      <Button
        size="small"
        color="inherit"
        onClick={() => {
          setShowsAll(!showsAll);
        }}
        data-testid="all-settings"
        aria-expanded={showsAll}
      >
        {showsAll ? "Fewer settings" : "All settings"}
      </Button>
      {showsAll &&
        outputSections(catalogue).map((section) => (
          <Box key={section.name}>
            <Heading>{section.name}</Heading>
            {section.settings.map(field)}
          </Box>
        ))}
    </Box>
  );
}
