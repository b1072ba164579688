/** The large picture: frame-accurate stills from the source itself, and motion from what browsers play. */
import Box from "@mui/material/Box";
import { type ReactNode, useEffect, useRef, useState } from "react";
import type { ShownField, Viewing } from "../api/client";
import { useRoom } from "../shared/room";
import { stillOf, useNewest } from "./newest";
import type { Clock } from "./position";

interface Props {
  source: string;
  clock: Clock;
  frame: number;
  field: ShownField;
  /** Colour, levels and what is laid over, as a patch on a preset. */
  look: unknown;
  /** How fast it moves, by the pace of the source: backwards below nought, still at nought. */
  speed: number;
  /** What is repeated, in seconds from the first frame. */
  loop: { from: number; to: number } | null;
  viewing: Viewing | undefined;
  /** Where the motion is, in seconds from the first frame. */
  onMoved: (seconds: number) => void;
  onStopped: () => void;
  /** Drawn over the picture, whose size in pixels of the page it is told. */
  over?: ((width: number, height: number) => ReactNode) | undefined;
}

/** Columns that a still is asked for: as many as are shown on dense screens, and no more. */
const STILL_WIDTH = 1280;

export function Picture({ source, clock, frame, field, look, speed, loop, viewing, onMoved, onStopped, over }: Props) {
  const [area, room] = useRoom();
  const [shape, setShape] = useState(0);
  const wanted = stillOf(source, clock.exactTimeOf(frame), STILL_WIDTH, look, { field });
  const shown = useNewest(wanted);
  const player = useRef<HTMLVideoElement>(null);
  const at = useRef(0);
  const repeated = useRef(loop);
  const playing = speed > 0;
  useEffect(() => {
    repeated.current = loop;
  }, [loop]);
  useEffect(() => {
    if (speed === 0) at.current = clock.timeOf(frame);
  }, [speed, clock, frame]);
  useEffect(() => {
    const element = player.current;
    if (speed === 0 || !element) return;
    element.currentTime = at.current;
    if (speed > 0) {
      element.playbackRate = speed;
      element.play().catch(onStopped);
    }
    let last = performance.now();
    let request = requestAnimationFrame(function follow(now) {
      // Browsers do not play backwards: there the stills follow as fast as they come.
      const moved = speed > 0 ? element.currentTime : at.current + (speed * (now - last)) / 1000;
      last = now;
      const { from, to } = repeated.current ?? { from: 0, to: Infinity };
      const isOut = speed > 0 ? moved >= to : moved <= from;
      if (isOut && !repeated.current) {
        onMoved(0);
        onStopped();
        return;
      }
      at.current = isOut ? (speed > 0 ? from : to) : moved;
      if (isOut) element.currentTime = at.current;
      onMoved(at.current);
      request = requestAnimationFrame(follow);
    });
    return () => {
      element.pause();
      cancelAnimationFrame(request);
    };
    // Only another speed starts or ends the motion.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [speed]);
  const fill = { position: "absolute", inset: 0, width: "100%", height: "100%", objectFit: "contain" } as const;
  // The picture stands whole in the middle of its room.
  const width = shape > 0 ? Math.min(room[0], room[1] * shape) : 0;
  const height = shape > 0 ? width / shape : 0;
  return (
    <Box
      ref={area}
      sx={{ position: "relative", overflow: "hidden", flex: 1, minHeight: 0, bgcolor: "background.default" }}
      data-testid="picture"
      data-shown={shown === wanted}
    >
      {shown && (
        <Box
          component="img"
          src={shown}
          alt="What is at the playhead"
          draggable={false}
          onLoad={(event: React.SyntheticEvent<HTMLImageElement>) => {
            setShape(event.currentTarget.naturalWidth / event.currentTarget.naturalHeight);
          }}
          sx={{ ...fill, visibility: playing ? "hidden" : "visible" }}
        />
      )}
      {viewing?.state === "ready" && (
        <Box
          component="video"
          ref={player}
          src={viewing.url}
          playsInline
          preload="auto"
          onEnded={({ currentTarget }) => {
            if (!repeated.current) {
              onStopped();
              return;
            }
            currentTarget.currentTime = repeated.current.from;
            currentTarget.play().catch(onStopped);
          }}
          sx={{ ...fill, visibility: playing ? "visible" : "hidden" }}
        />
      )}
      {over && width > 0 && (
        <Box
          sx={{ position: "absolute", overflow: "hidden" }}
          style={{ left: (room[0] - width) / 2, top: (room[1] - height) / 2, width, height }}
        >
          {over(width, height)}
        </Box>
      )}
    </Box>
  );
}
