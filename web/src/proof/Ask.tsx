/** What is to be proved: moments, a test strip, or the output with and without one of its steps. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import type { CellProofs } from "../api/client";
import { Heading } from "../sheets/SlipParts";
import { type Count, frameOfTimecode, timecodeText } from "../shared/timecode";
import { fraction, plural } from "../shared/words";
import { type Strip, type Variant } from "./variants";

interface Props {
  proofs: CellProofs;
  /** How the frames of the source are counted. */
  count: Count;
  strips: Strip[];
  without: Variant[];
  /** Seconds of the source at which the shown proof stands; where none is shown, none. */
  at: number | null;
  onProve: (moments: string[], seconds: number, variants: Variant[]) => void;
  /** Wants the size of the whole forecast from many short stretches. */
  onSample: () => void;
}

const AS_PLANNED: Variant = { label: "", overrides: {} };
const LENGTHS = [1, 2, 3, 5, 10];

/** Seconds as an exact fraction, to the millisecond. */
function exact(seconds: number): string {
  return `${String(Math.round(seconds * 1000))}/1000`;
}

export function Ask({ proofs, count, strips, without, at, onProve, onSample }: Props) {
  const [left, setLeft] = useState<ReadonlySet<string>>(new Set());
  const [typed, setTyped] = useState("");
  const [seconds, setSeconds] = useState(3);
  const [setting, setSetting] = useState("");
  const [off, setOff] = useState<ReadonlySet<string>>(new Set());
  const chosen = proofs.moments.filter((moment) => !left.has(moment.at)).map((moment) => moment.at);
  const typedFrame = frameOfTimecode(typed, count);
  const own = typedFrame === null ? null : typedFrame / count.rate;
  const moments = own === null ? chosen : [...chosen, exact(own)];
  const strip = strips.find((one) => one.name === setting) ?? strips[0];
  const variants = strip?.variants.filter((variant) => !off.has(variant.label)) ?? [];
  // A strip stands at one moment: where the picture stands now, or at the first that is chosen.
  const moment = at === null ? moments[0] : exact(at);
  const toggled = (set: ReadonlySet<string>, value: string): ReadonlySet<string> => {
    const next = new Set(set);
    if (!next.delete(value)) next.add(value);
    return next;
  };
  if (proofs.refusal)
    return <Box sx={{ color: "text.secondary", mt: 2 }}>Nothing can be proved here: {proofs.refusal}.</Box>;
  return (
    <>
      <Heading>Moments</Heading>
      {proofs.moments.map((one) => (
        <Box
          component="label"
          key={one.at}
          sx={{ display: "flex", alignItems: "center", gap: 0.75, cursor: "pointer" }}
        >
          <Checkbox
            size="small"
            sx={{ p: 0.25 }}
            checked={!left.has(one.at)}
            onChange={() => {
              setLeft(toggled(left, one.at));
            }}
          />
          {timecodeText(fraction(one.at), count)}
          <Box
            component="span"
            sx={{ color: "text.secondary", whiteSpace: "nowrap", overflow: "hidden", textOverflow: "ellipsis" }}
          >
            {one.shows}
          </Box>
        </Box>
      ))}
      <Box sx={{ display: "flex", gap: 1, mt: 1 }}>
        <TextField
          size="small"
          label="Add timecode"
          value={typed}
          error={typed !== "" && own === null}
          onChange={(event) => {
            setTyped(event.target.value);
          }}
          placeholder="00:00:12:05"
          sx={{ flex: 1 }}
        />
        <TextField
          select
          size="small"
          label="Length (s)"
          value={seconds}
          onChange={(event) => {
            setSeconds(Number(event.target.value));
          }}
          sx={{ width: 110 }}
        >
          {LENGTHS.map((length) => (
            <MenuItem key={length} value={length}>
              {length}
            </MenuItem>
          ))}
        </TextField>
      </Box>
      <Button
        variant="contained"
        fullWidth
        disabled={moments.length === 0}
        onClick={() => {
          onProve(moments, seconds, [AS_PLANNED]);
        }}
        sx={{ mt: 1 }}
        data-testid="prove"
        title="Prove these moments (P)"
      >
        Prove {plural(moments.length, "moment")}
      </Button>
      <Button
        variant="outlined"
        fullWidth
        onClick={onSample}
        sx={{ mt: 1 }}
        data-testid="sample"
        title="Many short stretches from all of the source in one proof: its size is forecast to some twelve percent (S)"
      >
        Estimate total size
      </Button>
      {strip && (
        <>
          <Heading>Test strip: one moment, one setting varied</Heading>
          <TextField
            select
            fullWidth
            size="small"
            label="What is varied"
            value={strip.name}
            onChange={(event) => {
              setSetting(event.target.value);
              setOff(new Set());
            }}
            data-testid="strip-setting"
          >
            {strips.map((one) => (
              <MenuItem key={one.name} value={one.name}>
                {one.name}
              </MenuItem>
            ))}
          </TextField>
          <Box sx={{ display: "flex", flexWrap: "wrap", gap: 0.75, mt: 1 }}>
            {strip.variants.map((variant) => (
              <Button
                key={variant.label}
                color="inherit"
                variant={off.has(variant.label) ? "text" : "outlined"}
                aria-pressed={!off.has(variant.label)}
                onClick={() => {
                  setOff(toggled(off, variant.label));
                }}
                sx={{ py: 0, px: 1, minWidth: 0, opacity: off.has(variant.label) ? 0.6 : 1 }}
              >
                {variant.label}
              </Button>
            ))}
          </Box>
          <Button
            variant="outlined"
            fullWidth
            disabled={variants.length < 2 || moment === undefined}
            onClick={() => {
              if (moment) onProve([moment], seconds, variants);
            }}
            sx={{ mt: 1 }}
            data-testid="make-strip"
          >
            Make the strip at {timecodeText(moment ? fraction(moment) : 0, count)}
          </Button>
        </>
      )}
      {without.length > 0 && (
        <>
          <Heading>With and without, at the same moment</Heading>
          <Box sx={{ display: "flex", flexWrap: "wrap", gap: 0.75 }}>
            {without.map((variant) => (
              <Button
                key={variant.label}
                color="inherit"
                variant="outlined"
                disabled={moment === undefined}
                onClick={() => {
                  if (moment) onProve([moment], seconds, [{ ...AS_PLANNED, label: "as planned" }, variant]);
                }}
                sx={{ py: 0.25, px: 1 }}
              >
                {variant.label}
              </Button>
            ))}
          </Box>
        </>
      )}
    </>
  );
}
