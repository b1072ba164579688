/** Source and output beside each other, in step: one play button, one position, one sound. */
import { styled } from "@mui/material/styles";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Slider from "@mui/material/Slider";
import { useEffect, useRef, useState } from "react";
import type { Viewing } from "../api/client";
import { MONO } from "../shared/theme";
import { useViewing } from "../shared/viewing";
import { type Count, timecodeText } from "../shared/timecode";

interface Props {
  source: string;
  run: string;
  /** How the frames of the source are counted. */
  count: Count;
}

/** Farther apart than this, in seconds, and the follower is put right. */
const APART = 0.08;

type Side = "source" | "output";

const Listen = styled("button", { shouldForwardProp: (prop) => prop !== "isHeard" })<{ isHeard: boolean }>(
  ({ theme: { palette }, isHeard }) => ({
    all: "unset",
    cursor: "pointer",
    fontSize: 12,
    color: isHeard ? palette.text.primary : palette.text.secondary,
  }),
);

export function Pair({ source, run, count }: Props) {
  const views: Record<Side, Viewing | undefined> = {
    source: useViewing("sources", source),
    output: useViewing("runs", run),
  };
  const players = { source: useRef<HTMLVideoElement>(null), output: useRef<HTMLVideoElement>(null) };
  const [playing, setPlaying] = useState(false);
  const [heard, setHeard] = useState<Side>("output");
  const [position, setPosition] = useState(0);
  const [length, setLength] = useState(0);
  const both = () => [players.source.current, players.output.current].filter((player) => player !== null);

  // Two players drift: while they run, the source follows the output.
  useEffect(() => {
    if (!playing) return;
    let frame = requestAnimationFrame(function follow() {
      const [leader, follower] = [players.output.current, players.source.current];
      if (leader) setPosition(leader.currentTime);
      if (leader && follower && !follower.ended && Math.abs(leader.currentTime - follower.currentTime) > APART)
        follower.currentTime = leader.currentTime;
      frame = requestAnimationFrame(follow);
    });
    return () => {
      cancelAnimationFrame(frame);
    };
  }, [playing, players.output, players.source]);

  const toggle = () => {
    setPlaying(!playing);
    for (const player of both()) {
      if (playing) player.pause();
      else
        void player.play().catch(() => {
          setPlaying(false);
        });
    }
  };
  const seek = (to: number) => {
    setPosition(to);
    for (const player of both()) player.currentTime = to;
  };
  const side = (name: Side, word: string) => (
    <Box sx={{ flex: 1, minWidth: 0 }}>
      <Player
        side={name}
        viewing={views[name]}
        muted={heard !== name}
        player={players[name]}
        onLength={(seconds) => {
          setLength((known) => Math.max(known, seconds));
        }}
        onEnded={() => {
          if (name === "output") setPlaying(false);
        }}
      />
      <Listen
        onClick={() => {
          setHeard(name);
        }}
        aria-pressed={heard === name}
        isHeard={heard === name}
      >
        {word}
        {views[name]?.state === "ready" && views[name].is_copy && ", a preview copy"}
        {heard === name ? " · listening" : " · listen"}
      </Listen>
    </Box>
  );
  return (
    <Box data-testid="pair">
      <Box sx={{ display: "flex", gap: 1 }}>
        {side("source", "Source")}
        {side("output", "Output")}
      </Box>
      <Box sx={{ display: "flex", alignItems: "center", gap: 1.5 }}>
        <Button color="inherit" onClick={toggle} aria-label={playing ? "Stop" : "Play both"} sx={{ minWidth: 52 }}>
          {playing ? "Stop" : "Play"}
        </Button>
        <Slider
          size="small"
          aria-label="Position"
          value={Math.min(position, length)}
          max={Math.max(length, 0.01)}
          step={1 / count.rate}
          onChange={(_, to) => {
            seek(to);
          }}
        />
        <Box sx={{ fontFamily: MONO, fontSize: 11, whiteSpace: "nowrap" }}>{timecodeText(position, count)}</Box>
      </Box>
    </Box>
  );
}

interface PlayerProps {
  side: Side;
  viewing: Viewing | undefined;
  muted: boolean;
  player: React.RefObject<HTMLVideoElement | null>;
  onLength: (seconds: number) => void;
  onEnded: () => void;
}

function Player({ side, viewing, muted, player, onLength, onEnded }: PlayerProps) {
  const frame = {
    width: "100%",
    aspectRatio: "16 / 9",
    bgcolor: "#000",
    borderRadius: 1,
    display: "grid",
    placeItems: "center",
    color: "#a0a0a0",
    fontSize: 12,
    textAlign: "center",
  } as const;
  if (viewing?.state === "ready") {
    return (
      <Box
        component="video"
        ref={player}
        data-of={side}
        src={viewing.url}
        muted={muted}
        playsInline
        preload="auto"
        onLoadedMetadata={(event: React.SyntheticEvent<HTMLVideoElement>) => {
          onLength(event.currentTarget.duration);
        }}
        onEnded={onEnded}
        sx={{ ...frame, objectFit: "contain" }}
      />
    );
  }
  if (viewing?.state === "failed") return <Box sx={frame}>{viewing.problem.why}</Box>;
  return (
    <Box sx={frame}>
      {viewing ? `A preview copy is being made: ${String(Math.floor(viewing.fraction * 100))} %` : ""}
    </Box>
  );
}
