/** In and out: the parts that are taken, by key or by timecode, and what becomes of several. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import { Heading } from "../sheets/SlipParts";
import { frameOfTimecode, lengthText, timecodeText } from "../shared/timecode";
import { plural } from "../shared/words";
import { joined, length, type Marks, type Part } from "./marks";
import type { Clock } from "./position";

interface Props {
  marks: Marks;
  clock: Clock;
  /** How many other sources of the sheet are as long. */
  alike: number;
  onParts: (parts: Part[]) => void;
  onSeek: (frame: number) => void;
  onCopy: () => void;
  onSplit: () => void;
  onIn: () => void;
  onOut: () => void;
}

export function MarksPanel({ marks, clock, alike, onParts, onSeek, onCopy, onSplit, onIn, onOut }: Props) {
  const { parts, open } = marks;
  const text = (frame: number) => timecodeText(frame / clock.rate, clock.count);
  const span = (frames: number) => lengthText(frames / clock.rate, clock.count);
  const change = (place: number, part: Part) => {
    onParts(joined(parts.map((one, other) => (other === place ? part : one))));
  };
  return (
    <Box data-testid="marks">
      <Heading>In and out</Heading>
      {parts.length === 0 && open === null && (
        <Box sx={{ color: "text.secondary" }}>
          All of it is taken. Mark a part to forecast, prove and run nothing else.
        </Box>
      )}
      {parts.map((part, place) => (
        <Box
          key={`${String(part.first)} ${String(part.end)}`}
          data-testid="part"
          sx={{ display: "flex", alignItems: "center", gap: 0.75, mb: 0.75 }}
        >
          <Code
            label="in"
            frame={part.first}
            clock={clock}
            onFrame={(first) => {
              if (first < part.end) change(place, { ...part, first });
            }}
            onSeek={onSeek}
          />
          <Code
            label="out"
            frame={part.end - 1}
            clock={clock}
            onFrame={(last) => {
              if (last >= part.first) change(place, { ...part, end: last + 1 });
            }}
            onSeek={onSeek}
          />
          <Button
            color="inherit"
            onClick={() => {
              onParts(parts.filter((_, other) => other !== place));
            }}
            sx={{ minWidth: 0, px: 0.75, color: "text.secondary" }}
          >
            Remove
          </Button>
        </Box>
      ))}
      {open !== null && <Box sx={{ color: "warning.main" }}>In at {text(open)}; the out point is still to be set.</Box>}
      {parts.length > 0 && (
        <Box sx={{ color: "text.secondary" }}>
          {span(length(parts))} of {span(clock.frames)} is taken
          {parts.length > 1 && `, ${plural(parts.length, "part")} one after the other in one output`}.
        </Box>
      )}
      <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mt: 1 }}>
        <Button variant="outlined" color="inherit" onClick={onIn} title="Begin here (I)" data-testid="mark-in">
          Mark in
        </Button>
        <Button
          variant="outlined"
          color="inherit"
          onClick={onOut}
          title="End with this frame (O)"
          data-testid="mark-out"
        >
          Mark out
        </Button>
        {parts.length > 1 && (
          <Button
            color="inherit"
            onClick={onSplit}
            title="The source stands in a row of its own for each part"
            data-testid="split"
          >
            Split into rows
          </Button>
        )}
        {parts.length > 0 && alike > 0 && (
          <Button color="inherit" onClick={onCopy} data-testid="copy-marks">
            Copy marks to {plural(alike, "source")} of equal length
          </Button>
        )}
        {parts.length > 0 && (
          <Button
            color="inherit"
            onClick={() => {
              onParts([]);
            }}
          >
            Clear marks
          </Button>
        )}
      </Box>
    </Box>
  );
}

interface CodeProps {
  label: string;
  frame: number;
  clock: Clock;
  onFrame: (frame: number) => void;
  onSeek: (frame: number) => void;
}

/** A timecode that is taken when the field is left or Enter is pressed. */
function Code({ label, frame, clock, onFrame, onSeek }: CodeProps) {
  const written = timecodeText(frame / clock.rate, clock.count);
  const [typed, setTyped] = useState(written);
  const meant = frameOfTimecode(typed, clock.count);
  const wrong = meant === null || meant >= clock.frames;
  const take = () => {
    if (wrong) setTyped(written);
    else if (meant !== frame) onFrame(meant);
  };
  return (
    <TextField
      size="small"
      label={label}
      value={typed}
      error={wrong}
      onChange={(event) => {
        setTyped(event.target.value);
      }}
      onBlur={take}
      onFocus={() => {
        onSeek(frame);
      }}
      onKeyDown={(event) => {
        if (event.key === "Enter") take();
        event.stopPropagation();
      }}
      slotProps={{ htmlInput: { "data-mark": label, style: { fontSize: 12, padding: "5px 8px" } } }}
      sx={{ flex: 1 }}
    />
  );
}
