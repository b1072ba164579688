/** The large picture: frame-accurate stills from the source itself, and motion from what browsers play. */
import Box from "@mui/material/Box";
import { type ReactNode, useEffect, useRef, useState } from "react";
import type { ShownField, Viewing } from "../api/client";
import { useRoom } from "../shared/room";
import type { Clock } from "./position";

interface Props {
  source: string;
  clock: Clock;
  frame: number;
  field: ShownField;
  /** Colour, levels and what is laid over, as a patch on a preset. */
  look: unknown;
  playing: boolean;
  viewing: Viewing | undefined;
  /** Where the motion is, in seconds from the first frame. */
  onMoved: (seconds: number) => void;
  onStopped: () => void;
  /** Drawn over the picture, whose size in pixels of the page it is told. */
  over?: ((width: number, height: number) => ReactNode) | undefined;
}

/** Columns that a still is asked for: as many as are shown on dense screens, and no more. */
const STILL_WIDTH = 1280;

/** The address of the newest still that is loaded; while one is on its way, no other is asked for. */
function useNewest(wanted: string): string | null {
  const [shown, setShown] = useState<string | null>(null);
  const target = useRef(wanted);
  const loading = useRef(false);
  const ended = useRef(false);
  useEffect(() => {
    ended.current = false;
    return () => {
      ended.current = true;
    };
  }, []);
  useEffect(() => {
    target.current = wanted;
    const load = () => {
      const address = target.current;
      loading.current = true;
      const image = new Image();
      const settle = () => {
        loading.current = false;
        if (ended.current) return;
        if (image.naturalWidth > 0) setShown(address);
        if (target.current !== address) load();
      };
      image.onload = settle;
      image.onerror = settle;
      image.src = address;
    };
    if (!loading.current) load();
  }, [wanted]);
  return shown;
}

export function Picture({ source, clock, frame, field, look, playing, viewing, onMoved, onStopped, over }: Props) {
  const [area, room] = useRoom();
  const [shape, setShape] = useState(0);
  const wanted = `/api/sources/${source}/still?at=${clock.exactTimeOf(frame)}&width=${String(STILL_WIDTH)}&field=${field}${look == null ? "" : `&look=${encodeURIComponent(JSON.stringify(look))}`}`;
  const shown = useNewest(wanted);
  const player = useRef<HTMLVideoElement>(null);
  const start = useRef(0);
  useEffect(() => {
    if (!playing) start.current = clock.timeOf(frame);
  }, [playing, clock, frame]);
  useEffect(() => {
    const element = player.current;
    if (!playing || !element) return;
    element.currentTime = start.current;
    element.play().catch(onStopped);
    let request = requestAnimationFrame(function follow() {
      onMoved(element.currentTime);
      request = requestAnimationFrame(follow);
    });
    return () => {
      element.pause();
      cancelAnimationFrame(request);
    };
    // Only the switch between standing and moving starts or ends the motion.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [playing]);
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
          onEnded={onStopped}
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
