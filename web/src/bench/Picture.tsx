/** The large picture: frame-accurate stills from the source itself, and motion from what browsers play. */
import Box from "@mui/material/Box";
import { styled } from "@mui/material/styles";
import { type ReactNode, useEffect, useRef, useState } from "react";
import type { ShownField, Viewing } from "../api/client";
import { useActions } from "../shared/actions";
import { useRoom } from "../shared/room";
import { MONO } from "../shared/theme";
import { stillOf, useNewest } from "./newest";
import type { Clock } from "./position";
import { panned, WHOLE, zoomed } from "./zoom";

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
/** The same of a part that is seen larger: all that most sources have. */
const CLOSE_WIDTH = 3840;

const Readout = styled("div")({
  position: "absolute",
  left: 8,
  bottom: 8,
  padding: "1px 8px",
  borderRadius: 6,
  background: "rgba(18, 18, 18, 0.8)",
  color: "#ececec",
  fontFamily: MONO,
  fontSize: 12,
  pointerEvents: "none",
});

/** Red, green and blue of a pixel of a still. */
function codesAt(still: HTMLImageElement, column: number, line: number): Uint8ClampedArray | number[] {
  const canvas = document.createElement("canvas");
  canvas.width = 1;
  canvas.height = 1;
  const context = canvas.getContext("2d", { willReadFrequently: true });
  context?.drawImage(still, column, line, 1, 1, 0, 0, 1, 1);
  return context?.getImageData(0, 0, 1, 1).data ?? [];
}

export function Picture({ source, clock, frame, field, look, speed, loop, viewing, onMoved, onStopped, over }: Props) {
  const [area, room] = useRoom();
  const [shape, setShape] = useState(0);
  const [wantedZoom, setZoom] = useState(WHOLE);
  // While something lies over the picture, all of it is shown.
  const zoom = over ? WHOLE : wantedZoom;
  const [codes, setCodes] = useState<string | null>(null);
  const drag = useRef<[number, number] | null>(null);
  const image = useRef<HTMLImageElement>(null);
  const middle = [room[0] / 2, room[1] / 2] as const;
  useActions([
    {
      name: "Zoom in on the picture",
      key: "z",
      enabled: over === undefined,
      run: () => {
        setZoom(zoomed(zoom, 2, middle, room));
      },
    },
    {
      name: "Show the whole picture",
      key: "Z",
      enabled: zoom.times > 1,
      run: () => {
        setZoom(WHOLE);
      },
    },
  ]);
  const wanted = stillOf(source, clock.exactTimeOf(frame), zoom.times > 1 ? CLOSE_WIDTH : STILL_WIDTH, look, {
    field,
  });
  const shown = useNewest(wanted);
  const player = useRef<HTMLVideoElement>(null);
  const reached = useRef(0);
  const repeated = useRef(loop);
  const playing = speed > 0;
  useEffect(() => {
    repeated.current = loop;
  }, [loop]);
  useEffect(() => {
    if (speed === 0) reached.current = clock.timeOf(frame);
  }, [speed, clock, frame]);
  useEffect(() => {
    const element = player.current;
    if (speed === 0 || !element) return;
    element.currentTime = reached.current;
    if (speed > 0) {
      element.playbackRate = speed;
      element.play().catch(onStopped);
    }
    let last = performance.now();
    let request = requestAnimationFrame(function follow(now) {
      // Browsers do not play backwards: there the stills follow as fast as they come.
      const moved = speed > 0 ? element.currentTime : reached.current + (speed * (now - last)) / 1000;
      last = now;
      const { from, to } = repeated.current ?? { from: 0, to: Infinity };
      const isOut = speed > 0 ? moved >= to : moved <= from;
      if (isOut && !repeated.current) {
        onMoved(0);
        onStopped();
        return;
      }
      reached.current = isOut ? (speed > 0 ? from : to) : moved;
      if (isOut) element.currentTime = reached.current;
      onMoved(reached.current);
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
  const at = (event: { clientX: number; clientY: number; currentTarget: Element }): [number, number] => {
    const edge = event.currentTarget.getBoundingClientRect();
    return [event.clientX - edge.left, event.clientY - edge.top];
  };
  /** The pixel of the still at a point of the room, and its codes as they are shown. */
  const read = ([x, y]: [number, number]) => {
    const still = image.current;
    if (!still || width === 0 || playing) return null;
    const across = ((x - zoom.x) / zoom.times - (room[0] - width) / 2) / width;
    const down = ((y - zoom.y) / zoom.times - (room[1] - height) / 2) / height;
    if (across < 0 || across >= 1 || down < 0 || down >= 1) return null;
    const column = Math.floor(across * still.naturalWidth);
    const line = Math.floor(down * still.naturalHeight);
    const [red = 0, green = 0, blue = 0] = codesAt(still, column, line);
    return `${String(column)}, ${String(line)} of ${String(still.naturalWidth)}×${String(still.naturalHeight)} · R ${String(red)} G ${String(green)} B ${String(blue)}, 8 bit as shown`;
  };
  return (
    <Box
      ref={area}
      sx={{ position: "relative", overflow: "hidden", flex: 1, minHeight: 0, bgcolor: "background.default" }}
      data-testid="picture"
      data-shown={shown === wanted}
      data-zoom={zoom.times}
      onWheel={(event) => {
        if (!over) setZoom(zoomed(zoom, event.deltaY < 0 ? 1.25 : 0.8, at(event), room));
      }}
      onPointerDown={(event) => {
        if (zoom.times > 1) drag.current = at(event);
      }}
      onPointerMove={(event) => {
        const here = at(event);
        const from = drag.current;
        if (from && event.buttons === 1) {
          setZoom(panned(zoom, here[0] - from[0], here[1] - from[1], room));
          drag.current = here;
        }
        setCodes(read(here));
      }}
      onPointerUp={() => {
        drag.current = null;
      }}
      onPointerLeave={() => {
        setCodes(null);
      }}
    >
      <Box
        sx={{ position: "absolute", inset: 0, transformOrigin: "0 0" }}
        style={{
          transform: `translate(${String(zoom.x)}px, ${String(zoom.y)}px) scale(${String(zoom.times)})`,
          imageRendering: zoom.times >= 4 ? "pixelated" : "auto",
        }}
      >
        {shown && (
          <Box
            component="img"
            ref={image}
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
      </Box>
      {codes !== null && !over && <Readout>{codes}</Readout>}
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
