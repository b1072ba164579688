/** One setting of the catalogue, with the values that it can have: whatever is allowed can be typed. */
import Autocomplete from "@mui/material/Autocomplete";
import Box from "@mui/material/Box";
import MenuItem from "@mui/material/MenuItem";
import Slider from "@mui/material/Slider";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import type { Asset, Kind, Setting, Token } from "../api/client";
import { TracksField } from "./TracksField";
import { type Figure, formOf, parsed, shown, sortedOffers, tokenWords, valueAt } from "./catalogue";

/** Stands for a setting that is not set. */
const UNSET = "";

interface Props {
  setting: Setting;
  /** What is set; nothing where the setting stays as it is elsewhere. */
  value: unknown;
  /** What it is elsewhere, where that is known. */
  inherited?: unknown;
  /** The words for that. */
  unset: string;
  assets: Asset[];
  /** Languages that the source has. */
  languages: string[];
  onChange: (value: unknown) => void;
}

export function SettingField(props: Props) {
  const { setting, value, unset, assets, languages, onChange } = props;
  const { kind } = setting;
  switch (kind.kind) {
    case "switch":
      return (
        <Select
          {...props}
          items={[
            ["on", true],
            ["off", false],
          ]}
        />
      );
    case "choice": {
      const items = kind.of.map((choice): [string, unknown] => [choice.words, choice.value]);
      if (kind.or_fraction == null) return <Select {...props} items={items} />;
      return <ChoiceOrFraction {...props} items={items} field={kind.or_fraction} />;
    }
    case "number":
    case "fraction":
    case "bit_rate":
      return (
        <FigureField
          kind={kind}
          setting={setting}
          value={value}
          unset={props.inherited == null ? unset : `${shown(kind, props.inherited)}, ${unset}`}
          onChange={onChange}
        />
      );
    case "file":
      return (
        <Select
          {...props}
          items={assets
            .filter((asset) => asset.kind === kind.holds)
            .map((asset): [string, unknown] => [asset.name, asset.name])}
        />
      );
    case "language":
      return <Select {...props} items={languages.map((language): [string, unknown] => [language, language])} />;
    case "rule":
      return <RuleField {...props} kind={kind} />;
    case "pattern":
      return <PatternField {...props} tokens={kind.tokens} />;
    case "tracks":
      return <TracksField {...props} />;
    case "text":
    case "parts":
      return null;
  }
}

/** A pattern of names, as it is typed. */
function PatternField({ setting, value, inherited, tokens, onChange }: Props & { tokens: Token[] }) {
  const pattern = typeof value === "string" ? value : typeof inherited === "string" ? inherited : "";
  return (
    <TextField
      fullWidth
      size="small"
      label={setting.name}
      title={setting.says}
      value={pattern}
      onChange={(event) => {
        onChange(event.target.value === inherited ? undefined : event.target.value);
      }}
      helperText={tokenWords(tokens)}
      data-setting={setting.place}
      sx={frame(value)}
    />
  );
}

function Select({ setting, value, inherited, unset, items, onChange }: Props & { items: [string, unknown][] }) {
  const placeOf = (value: unknown) => items.findIndex(([, known]) => JSON.stringify(known) === JSON.stringify(value));
  const place = placeOf(value);
  const elsewhere = items[placeOf(inherited)]?.[0];
  const chosen = value === undefined ? UNSET : place < 0 ? "other" : String(place);
  return (
    <TextField
      select
      fullWidth
      size="small"
      label={setting.name}
      title={setting.says}
      value={chosen}
      onChange={(event) => {
        if (event.target.value !== "other")
          onChange(event.target.value === UNSET ? undefined : items[Number(event.target.value)]?.[1]);
      }}
      slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
      data-setting={setting.place}
      sx={frame(value)}
    >
      <MenuItem value={UNSET}>{elsewhere === undefined ? unset : `${elsewhere}, ${unset}`}</MenuItem>
      {chosen === "other" && <MenuItem value="other">{typeof value === "string" ? value : "as set in JSON"}</MenuItem>}
      {items.map(([words], number) => (
        <MenuItem key={words} value={String(number)}>
          {words}
        </MenuItem>
      ))}
    </TextField>
  );
}

/** A field whose value is set has a coloured frame. */
function frame(value: unknown) {
  return { mb: 1.5, "& .MuiOutlinedInput-notchedOutline": value === undefined ? {} : { borderColor: "primary.main" } };
}

function ChoiceOrFraction({ items, field, ...props }: Props & { items: [string, unknown][]; field: string }) {
  const { value, setting, onChange } = props;
  const own = typeof value === "object" && value !== null ? (value as Record<string, unknown>)[field] : undefined;
  return (
    <>
      <Select {...props} items={[...items, ["set to …", { [field]: own ?? "16/15" }]]} />
      {own !== undefined && (
        <Box sx={{ pl: 2 }}>
          <FigureField
            kind={{ kind: "fraction" }}
            setting={{ ...setting, place: `${setting.place}.${field}` }}
            value={own}
            unset=""
            onChange={(to) => {
              if (to !== undefined) onChange({ [field]: to });
            }}
          />
        </Box>
      )}
    </>
  );
}

interface FigureProps {
  kind: Figure;
  setting: Setting;
  value: unknown;
  unset: string;
  onChange: (value: unknown) => void;
}

function FigureField({ kind, setting, value, unset, onChange }: FigureProps) {
  const [typed, setTyped] = useState<string | null>(null);
  const [fault, setFault] = useState("");
  const commit = (text: string | null) => {
    setTyped(null);
    setFault("");
    if (text === null || text.trim() === "") {
      onChange(undefined);
      return;
    }
    const result = parsed(kind, text);
    if ("value" in result) onChange(result.value);
    else {
      setTyped(text);
      setFault(result.fault);
    }
  };
  const slide = slider(kind);
  const field = (
    <Autocomplete
      freeSolo
      size="small"
      options={sortedOffers(kind).map((offer) => offer.words)}
      filterOptions={(options) => options}
      value={value === undefined ? null : shown(kind, value)}
      inputValue={typed ?? (value === undefined ? "" : shown(kind, value))}
      onInputChange={(_, text, reason) => {
        if (reason === "input") setTyped(text);
      }}
      onChange={(_, text) => {
        commit(text);
      }}
      onBlur={() => {
        if (typed !== null) commit(typed);
      }}
      data-setting={setting.place}
      sx={frame(value)}
      renderInput={(params) => (
        <TextField
          {...params}
          label={setting.name}
          title={setting.says}
          placeholder={unset}
          error={fault !== ""}
          helperText={fault ? `Type ${fault}.` : undefined}
          slotProps={{ ...params.slotProps, inputLabel: { ...params.slotProps.inputLabel, shrink: true } }}
        />
      )}
    />
  );
  if (slide === null) return field;
  return (
    <Box sx={{ display: "grid", gridTemplateColumns: "1fr 124px", gap: 1.5, alignItems: "start" }}>
      <Slide {...slide} name={setting.name} value={value} onChange={onChange} />
      {field}
    </Box>
  );
}

/** Ends of a slider, and the value that changes nothing. */
interface Ends {
  least: number;
  most: number;
  usual: number;
}

/** Levels are found by looking: they can be slid. */
function slider(kind: Figure): Ends | null {
  const usual = kind.offers?.[0];
  if (
    kind.kind !== "number" ||
    kind.least == null ||
    kind.most == null ||
    usual === undefined ||
    !["%", "dB"].includes(kind.unit ?? "")
  )
    return null;
  return { least: Number(kind.least), most: Number(kind.most), usual: Number(usual.value) };
}

function Slide({
  least,
  most,
  usual,
  name,
  value,
  onChange,
}: Ends & { name: string; value: unknown; onChange: (value: unknown) => void }) {
  const [moved, setMoved] = useState<number | null>(null);
  const set = typeof value === "number" ? value : usual;
  return (
    <Slider
      size="small"
      aria-label={name}
      min={least}
      max={most}
      value={moved ?? set}
      valueLabelDisplay="auto"
      onChange={(_, to) => {
        setMoved(to);
      }}
      onChangeCommitted={(_, to) => {
        setMoved(null);
        onChange(to === usual ? undefined : to);
      }}
      sx={{ mt: 0.75, ml: 1 }}
    />
  );
}

function RuleField({ kind, ...props }: Props & { kind: Extract<Kind, { kind: "rule" }> }) {
  const { setting, value, languages, onChange } = props;
  const fields = typeof value === "object" && value !== null ? (value as Record<string, unknown>) : undefined;
  const tagged = fields?.[kind.tag];
  const form = kind.forms.find((known) => known.value === tagged);
  const items = kind.forms.map((known): [string, unknown] => [known.words, known.value]);
  return (
    <>
      <Select
        {...props}
        value={fields === undefined ? undefined : tagged}
        inherited={valueAt(props.inherited ?? {}, kind.tag)}
        items={items}
        onChange={(to) => {
          onChange(
            typeof to === "string" ? formOf(kind, to, languages[0] ?? "eng", fields ?? props.inherited) : undefined,
          );
        }}
      />
      {form !== undefined && form.settings.length > 0 && (
        <Box sx={{ pl: 2 }}>
          {form.settings.map((own) => (
            <SettingField
              {...props}
              key={own.place}
              setting={{ ...own, place: `${setting.place}.${own.place}` }}
              value={fields?.[own.place]}
              inherited={undefined}
              unset={own.is_optional ? "none" : "usual"}
              onChange={(to) => {
                const rest = Object.fromEntries(Object.entries(fields ?? {}).filter(([name]) => name !== own.place));
                if (to !== undefined) onChange({ ...rest, [own.place]: to });
                else if (own.is_optional) onChange(rest);
              }}
            />
          ))}
        </Box>
      )}
    </>
  );
}
