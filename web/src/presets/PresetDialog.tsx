/** A preset as a form, made from the catalogue of settings, with its document beside it. What differs from its origin is marked. */
import { styled } from "@mui/material/styles";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { api, type Preset } from "../api/client";
import { keys } from "../api/live";
import { useCatalogue, valueAt, withValue } from "../catalogue/catalogue";
import { SettingField } from "../catalogue/SettingField";
import { Choice } from "../shared/Choice";
import { useTell } from "../shared/messages";
import { MONO } from "../shared/theme";
import { plural } from "../shared/words";
import { Heading } from "../sheets/SlipParts";
import { isWithin, triedWords, useNewestSources, useTried } from "./tried";

export interface Edited {
  /** What it is made from. */
  origin: Preset;
  preset: Preset;
  /** The id of the one that it takes the place of; nothing for a new one. */
  replaces: string | null;
}

/** What a preset is called stands above the settings. */
const NAMES = new Set(["id", "name", "use_when"]);

const Halves = styled("div")(({ theme: { spacing, breakpoints } }) => ({
  display: "grid",
  gridTemplateColumns: "minmax(0, 1fr) minmax(0, 1fr)",
  gap: spacing(3),
  height: 520,
  "& > div": { overflow: "auto", paddingTop: spacing(1) },
  "& .pair": { display: "grid", gridTemplateColumns: "1fr 1fr", gap: spacing(1.5) },
  [breakpoints.down("md")]: { display: "block", height: "auto" },
}));

const Words = styled("div")(({ theme: { palette, spacing } }) => ({
  margin: spacing(-0.5, 0, 1, 1.75),
  fontSize: 12,
  color: palette.error.main,
}));

/** A setting with what is wrong with it. */
function Faulty({ words, children }: { words: string | undefined; children: ReactNode }) {
  return (
    <>
      {children}
      {words !== undefined && <Words role="alert">{words}</Words>}
    </>
  );
}

interface Props {
  edited: Edited;
  /** Answers whether it was saved. */
  onSave: (preset: Preset) => Promise<boolean>;
  onClose: () => void;
}

export function PresetDialog({ edited: { origin, preset: first }, onSave, onClose }: Props) {
  const [preset, setPreset] = useState(first);
  // What is typed as JSON, until it can be read.
  const [typed, setTyped] = useState<string | null>(null);
  const [fault, setFault] = useState("");
  const catalogue = useCatalogue();
  const { data: assets = [] } = useQuery({ queryKey: keys.assets, queryFn: api.assets });
  const { refuse } = useTell();
  /** What is set otherwise than in the origin, as a whole. */
  const ownAt = (place: string) => {
    const own = valueAt(preset, place);
    return JSON.stringify(own) === JSON.stringify(valueAt(origin, place)) ? undefined : own;
  };
  const differing = catalogue
    .flatMap((section) => section.settings)
    .filter((setting) => !NAMES.has(setting.place) && ownAt(setting.place) !== undefined).length;
  const [source, setSource] = useState("");
  const sources = useNewestSources();
  const tried = useTried(preset, source || null);
  const faultAt = (place: string) => tried?.faults.find((fault) => isWithin(fault.field, place))?.words;
  const change = (next: Preset) => {
    setPreset(next);
    setTyped(null);
    setFault("");
  };
  const type = (text: string) => {
    setTyped(text);
    try {
      setPreset(JSON.parse(text) as Preset);
      setFault("");
    } catch (error) {
      setFault(error instanceof Error ? error.message : String(error));
    }
  };
  const save = () => {
    onSave(preset)
      .then((isSaved) => {
        if (isSaved) onClose();
      })
      .catch(refuse);
  };
  const name = (field: "id" | "name" | "use_when", label: string) => (
    <TextField
      key={field}
      size="small"
      fullWidth
      label={label}
      value={preset[field]}
      onChange={(event) => {
        change({ ...preset, [field]: event.target.value });
      }}
      sx={{ mb: 1.5 }}
    />
  );
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="lg" aria-labelledby="preset">
      <DialogTitle id="preset">{preset.name || "A preset"}</DialogTitle>
      <DialogContent>
        <Halves>
          <div data-testid="preset-form">
            <div className="pair">
              {name("name", "Name")}
              {name("id", "Id")}
            </div>
            {name("use_when", "When to use it")}
            {catalogue.map((section) => {
              const settings = section.settings.filter(
                (setting) => !NAMES.has(setting.place) && setting.place !== "parts" && setting.kind.kind !== "text",
              );
              return settings.length === 0 ? null : (
                <section key={section.name}>
                  <Heading>{section.name}</Heading>
                  {settings.map((setting) => (
                    <Faulty key={setting.place} words={faultAt(setting.place)}>
                      <SettingField
                        setting={setting}
                        value={ownAt(setting.place)}
                        inherited={valueAt(origin, setting.place)}
                        unset={`as ${origin.name}`}
                        assets={assets}
                        languages={[]}
                        onChange={(value) => {
                          change(
                            withValue(
                              preset,
                              setting.place,
                              value ?? valueAt(origin, setting.place),
                            ) as unknown as Preset,
                          );
                        }}
                      />
                    </Faulty>
                  ))}
                </section>
              );
            })}
          </div>
          <div>
            <TextField
              multiline
              fullWidth
              minRows={22}
              value={typed ?? JSON.stringify(preset, null, 2)}
              error={fault !== ""}
              helperText={fault || "The same as a document; its schema is at /api/preset-schema.json."}
              onChange={(event) => {
                type(event.target.value);
              }}
              slotProps={{ htmlInput: { "aria-label": "Preset document", style: { fontFamily: MONO, fontSize: 12 } } }}
            />
          </div>
        </Halves>
      </DialogContent>
      <DialogActions>
        <span data-testid="differences">
          {differing === 0 ? `As ${origin.name}` : `${plural(differing, "setting")} other than ${origin.name}`}
        </span>
        <span style={{ flex: 1 }} />
        {sources.length > 0 && (
          <Choice
            label="Forecast for"
            value={source}
            options={[{ value: "", words: "a minute of 1080p25" }, ...sources]}
            onChange={setSource}
          />
        )}
        <span data-testid="tried" role="status">
          {triedWords(tried, source !== "")}
        </span>
        <Button color="inherit" onClick={onClose}>
          Cancel
        </Button>
        <Button
          variant="contained"
          disabled={fault !== "" || (tried?.faults.length ?? 0) > 0}
          onClick={save}
          data-testid="save-preset"
        >
          Save
        </Button>
      </DialogActions>
    </Dialog>
  );
}
