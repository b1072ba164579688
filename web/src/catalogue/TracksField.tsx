/** Tracks of sound, one by one: of which streams and channels each is made, its language and its title. */
import Button from "@mui/material/Button";
import { styled } from "@mui/material/styles";
import TextField from "@mui/material/TextField";
import { useState } from "react";
import type { Setting, TrackWish } from "../api/client";
import { sourcesOf, sourcesText } from "./tracks";

const Whole = styled("fieldset", { shouldForwardProp: (name) => name !== "isSet" })<{ isSet: boolean }>(
  ({ theme: { palette, spacing }, isSet }) => ({
    margin: spacing(0, 0, 1.5),
    padding: spacing(0.5, 1.5, 1),
    border: `1px solid ${isSet ? palette.primary.main : palette.divider}`,
    borderRadius: 4,
    "& > legend": { fontSize: 12, color: palette.text.secondary, padding: spacing(0, 0.5) },
    "& p": { margin: spacing(0.5, 0), fontSize: 12, color: palette.text.secondary },
  }),
);

const Row = styled("div")(({ theme: { spacing } }) => ({
  display: "grid",
  gridTemplateColumns: "1.4fr 92px 1fr auto",
  alignItems: "start",
  gap: spacing(1),
  marginTop: spacing(1),
}));

interface Props {
  setting: Setting;
  value: unknown;
  inherited?: unknown;
  unset: string;
  onChange: (value: unknown) => void;
}

function tracksIn(value: unknown): TrackWish[] {
  return Array.isArray(value) ? (value as TrackWish[]) : [];
}

export function TracksField({ setting, value, inherited, unset, onChange }: Props) {
  const tracks = tracksIn(value ?? inherited);
  const change = (place: number, track: TrackWish) => {
    onChange(tracks.map((known, number) => (number === place ? track : known)));
  };
  return (
    <Whole isSet={value !== undefined} data-setting={setting.place} title={setting.says}>
      <legend>{setting.name}</legend>
      {tracks.length === 0 && <p>By the streams{value === undefined ? `, ${unset}` : ""}</p>}
      {tracks.map((track, place) => (
        // Tracks have no name of their own: they are told apart by their place.
        <Row key={place}>
          <FromField
            number={place + 1}
            track={track}
            onChange={(from) => {
              change(place, { ...track, from });
            }}
          />
          <Words
            label="Language"
            value={track.language ?? ""}
            onChange={(language) => {
              change(place, { ...track, language: language || null });
            }}
          />
          <Words
            label="Title"
            value={track.title ?? ""}
            onChange={(title) => {
              change(place, { ...track, title: title || null });
            }}
          />
          <Button
            color="inherit"
            aria-label={`Remove track ${String(place + 1)}`}
            onClick={() => {
              const rest = tracks.filter((_, number) => number !== place);
              onChange(rest.length === 0 && tracksIn(inherited).length === 0 ? undefined : rest);
            }}
          >
            Remove
          </Button>
        </Row>
      ))}
      {tracks.length > 0 && <p>1 is all of stream 1 · 1: 1, 2 is its first two channels · + joins several</p>}
      <Button
        onClick={() => {
          onChange([...tracks, { from: [{ stream: tracks.length }] }]);
        }}
      >
        Add track
      </Button>
    </Whole>
  );
}

function FromField({
  number,
  track,
  onChange,
}: {
  number: number;
  track: TrackWish;
  onChange: (from: TrackWish["from"]) => void;
}) {
  const [typed, setTyped] = useState<string | null>(null);
  const isWrong = typed !== null && sourcesOf(typed) === null;
  return (
    <TextField
      size="small"
      label={`Track ${String(number)} from${track.matrix == null ? "" : " (mixed)"}`}
      value={typed ?? sourcesText(track.from)}
      error={isWrong}
      helperText={isWrong ? "Type streams and channels, such as 1: 1, 2 + 2." : undefined}
      onChange={(event) => {
        setTyped(event.target.value);
        const from = sourcesOf(event.target.value);
        if (from) onChange(from);
      }}
      onBlur={() => {
        if (!isWrong) setTyped(null);
      }}
    />
  );
}

function Words({ label, value, onChange }: { label: string; value: string; onChange: (words: string) => void }) {
  return (
    <TextField
      size="small"
      label={label}
      value={value}
      onChange={(event) => {
        onChange(event.target.value.trimStart());
      }}
    />
  );
}
