/** Cutting off: by the finding, to a shape, or by hand, checked against moments from the whole source. */
import { styled } from "@mui/material/styles";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import type { Bench, Crop } from "../api/client";
import { timecodeText } from "../shared/timecode";
import { Heading } from "../sheets/SlipParts";
import { type CropRule, SHAPES } from "./crop";
import { CropFrame } from "./CropFrame";
import { clamp, type Clock } from "./position";

interface Props {
  bench: Bench;
  clock: Clock;
  /** The rule that is tried, and what it comes to. */
  rule: CropRule | null;
  crop: Crop | undefined;
  fault: string;
  onRule: (rule: CropRule | null) => void;
  onSet: () => void;
  onSeek: (seconds: number) => void;
  onClose: () => void;
}

const SHEET_PICTURES = 12;
const SIDES = ["left", "top", "right", "bottom"] as const;

function choiceOf(rule: CropRule | null): string {
  if (rule === null) return "preset";
  return rule.rule === "shape" ? `shape ${rule.shape}` : rule.rule;
}

/** Columns of a picture of the contact sheet, as it is drawn. */
const PICTURE = 145;

const Picture = styled("button")({
  all: "unset",
  position: "relative",
  overflow: "hidden",
  cursor: "pointer",
  width: PICTURE,
});

export function CropPanel({ bench, clock, rule, crop, fault, onRule, onSet, onSeek, onClose }: Props) {
  const hand = rule?.rule === "by_hand" ? rule : null;
  const choose = (choice: string) => {
    if (choice === "preset") onRule(null);
    else if (choice === "never" || choice === "bars") onRule({ rule: choice });
    else if (choice.startsWith("shape ")) onRule({ rule: "shape", shape: choice.slice(6) });
    else if (crop)
      onRule({
        rule: "by_hand",
        left: crop.part.x,
        top: crop.part.y,
        right: crop.width - crop.part.x - crop.part.width,
        bottom: crop.height - crop.part.y - crop.part.height,
      });
  };
  const share = (parts: number) => `${(parts / 100).toFixed(1)} %`;
  return (
    <>
      <Heading>What is cut off</Heading>
      <TextField
        select
        fullWidth
        size="small"
        label="All outputs of this source"
        value={choiceOf(rule)}
        onChange={(event) => {
          choose(event.target.value);
        }}
        data-testid="crop-rule"
      >
        <MenuItem value="preset">from the preset</MenuItem>
        <MenuItem value="never">nothing</MenuItem>
        <MenuItem value="bars">the bars that were found</MenuItem>
        {SHAPES.map(([shape, words]) => (
          <MenuItem key={shape} value={`shape ${shape}`}>
            all but {words}
          </MenuItem>
        ))}
        <MenuItem value="by_hand">by hand</MenuItem>
      </TextField>
      {hand && (
        <Box sx={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 1, mt: 1.5 }}>
          {SIDES.map((side) => (
            <Side
              key={`${side} ${String(hand[side])}`}
              name={side}
              value={hand[side]}
              onChange={(value) => {
                onRule({ ...hand, [side]: value });
              }}
            />
          ))}
        </Box>
      )}
      {fault && <Box sx={{ color: "error.main", mt: 1 }}>{fault}</Box>}
      {crop && !fault && (
        <Box data-testid="crop-result" sx={{ mt: 1.5 }}>
          <Box sx={{ fontWeight: 600 }}>
            {crop.part.width}×{crop.part.height} of {crop.width}×{crop.height}
          </Box>
          <Box sx={{ color: "text.secondary" }}>{crop.because}</Box>
          <Box>
            {crop.picture_lost === 0 ? "No picture lost" : `${share(crop.picture_lost)} of the picture lost`},{" "}
            {crop.bars_kept === 0 ? "no bars left" : `bars left, ${share(crop.bars_kept)} of what is kept`}.
          </Box>
        </Box>
      )}
      <Box sx={{ display: "flex", gap: 1, mt: 1.5 }}>
        <Button variant="contained" disabled={fault !== ""} onClick={onSet} data-testid="crop-set">
          Apply to all outputs
        </Button>
        <Button color="inherit" onClick={onClose}>
          Close
        </Button>
      </Box>
      <Heading>Moments from the whole source</Heading>
      <Box data-testid="contact-sheet" sx={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 0.75 }}>
        {Array.from({ length: SHEET_PICTURES }, (_, place) => {
          const seconds = ((place + 0.5) / SHEET_PICTURES) * clock.length;
          return (
            <Moment
              key={place}
              source={bench.source.id}
              at={clock.exactTimeOf(clock.frameAt(seconds))}
              name={`The picture at ${timecodeText(seconds, clock.count)}`}
              crop={fault ? undefined : crop}
              onClick={() => {
                onSeek(seconds);
              }}
            />
          );
        })}
      </Box>
    </>
  );
}

function Moment({
  source,
  at,
  name,
  crop,
  onClick,
}: {
  source: string;
  at: string;
  name: string;
  crop: Crop | undefined;
  onClick: () => void;
}) {
  const [height, setHeight] = useState(0);
  return (
    <Picture aria-label={name} onClick={onClick}>
      <img
        src={`/api/sources/${source}/still?at=${at}&width=288`}
        alt=""
        width={PICTURE}
        style={{ display: "block" }}
        onLoad={(event) => {
          setHeight(event.currentTarget.height);
        }}
      />
      {crop && height > 0 && <CropFrame crop={crop} width={PICTURE} height={height} />}
    </Picture>
  );
}

/** A number that is taken when the field is left or Enter is pressed. */
function Side({ name, value, onChange }: { name: string; value: number; onChange: (value: number) => void }) {
  const [typed, setTyped] = useState(String(value));
  const take = () => {
    const number = clamp(Math.round(Number(typed)) || 0, 0, 8192);
    if (number !== value) onChange(number);
  };
  return (
    <TextField
      size="small"
      label={name}
      value={typed}
      onChange={(event) => {
        setTyped(event.target.value);
      }}
      onBlur={take}
      onKeyDown={(event) => {
        if (event.key === "Enter") take();
      }}
      slotProps={{ htmlInput: { inputMode: "numeric", "data-side": name } }}
    />
  );
}
