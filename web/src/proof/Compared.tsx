/** Source and proof in one picture: with a divider, side by side, flipped in place, or their difference. */
import Box from "@mui/material/Box";
import { type PointerEvent, type ReactNode, useEffect, useRef, useState, type WheelEvent } from "react";
import { clamp } from "../bench/position";
import { useRoom } from "../shared/room";
import { whenLoaded } from "../shared/stills";

export type Way = "divider" | "beside" | "flip" | "difference";
export type Side = "source" | "made";

interface Props {
  proof: string;
  /** Pixels of the pictures as they are shown. */
  width: number;
  height: number;
  frame: number;
  way: Way;
  /** Which side is shown where one covers the other. */
  side: Side;
  /** Pixels of the page for a pixel of the picture; 0 for as large as there is room. */
  zoom: number;
  onZoom: (zoom: number) => void;
  playing: boolean;
  /** Seconds of the frame at which motion begins. */
  start: number;
  onMoved: (seconds: number) => void;
  onStopped: () => void;
}

const MOST_ZOOM = 8;
/** How much a difference is made stronger, so that it can be seen. */
const STRONGER = 8;

/** The address of a still, once it is loaded; the one before stays until then. And whether it cannot be had. */
function useLoaded(address: string): { shown: string | null; isMissing: boolean } {
  const [shown, setShown] = useState<string | null>(null);
  const [missing, setMissing] = useState<string | null>(null);
  useEffect(
    () =>
      whenLoaded(address, (isLoaded) => {
        if (isLoaded) setShown(address);
        else setMissing(address);
      }),
    [address],
  );
  return { shown, isMissing: missing === address };
}

export function Compared({
  proof,
  width,
  height,
  frame,
  way,
  side,
  zoom,
  onZoom,
  playing,
  start,
  onMoved,
  onStopped,
}: Props) {
  const [area, room] = useRoom();
  const [divider, setDivider] = useState(0.5);
  const [middle, setMiddle] = useState<[number, number]>([0.5, 0.5]);
  const drag = useRef<{ x: number; y: number; middle: [number, number] } | null>(null);
  const address = (of: Side) => `/api/proofs/${proof}/still?frame=${String(frame)}&side=${of}`;
  const loaded = { source: useLoaded(address("source")), made: useLoaded(address("made")) };
  const stills: Record<Side, string | null> = { source: loaded.source.shown, made: loaded.made.shown };
  const isMissing = loaded.source.isMissing || loaded.made.isMissing;
  const ready = stills.source === address("source") && stills.made === address("made");
  const player = useRef<HTMLVideoElement>(null);
  const canvases: Record<Side, React.RefObject<HTMLCanvasElement | null>> = {
    source: useRef(null),
    made: useRef(null),
  };

  // Both halves come from the same frame of one film, so that they cannot drift apart.
  useEffect(() => {
    const film = player.current;
    if (!playing || !film) return;
    let handle = 0;
    const draw = (_: number, at: VideoFrameCallbackMetadata) => {
      const [across, down] = [film.videoWidth, film.videoHeight / 2];
      for (const [place, canvas] of [canvases.source.current, canvases.made.current].entries()) {
        if (!canvas) continue;
        if (canvas.width !== across || canvas.height !== down) [canvas.width, canvas.height] = [across, down];
        canvas.getContext("2d")?.drawImage(film, 0, place * down, across, down, 0, 0, across, down);
      }
      onMoved(at.mediaTime);
      handle = film.requestVideoFrameCallback(draw);
    };
    handle = film.requestVideoFrameCallback(draw);
    film.currentTime = start;
    film.play().catch(onStopped);
    return () => {
      film.cancelVideoFrameCallback(handle);
      film.pause();
    };
    // Only the switch between standing and moving starts or ends the motion.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [playing]);

  const beside = way === "beside";
  const shownRoom: [number, number] = beside ? [(room[0] - 2) / 2, room[1]] : room;
  const fit = Math.min(shownRoom[0] / width, shownRoom[1] / height);
  const scale = zoom > 0 ? zoom : Math.max(fit, 0.01);
  const [across, down] = [width * scale, height * scale];
  // The middle of the room shows this part of the picture; where there is room to spare it stands in the middle.
  const offset = (roomy: number, size: number, share: number) =>
    size <= roomy ? (roomy - size) / 2 : clamp(roomy / 2 - share * size, roomy - size, 0);
  const [left, top] = [offset(shownRoom[0], across, middle[0]), offset(shownRoom[1], down, middle[1])];
  const wheel = (event: WheelEvent) => {
    const next = clamp(scale * (event.deltaY > 0 ? 0.8 : 1.25), fit, MOST_ZOOM);
    onZoom(next <= fit * 1.01 ? 0 : next);
  };
  const grab = (event: PointerEvent) => {
    if (zoom === 0) return;
    event.currentTarget.setPointerCapture(event.pointerId);
    drag.current = { x: event.clientX, y: event.clientY, middle };
  };
  const move = (event: PointerEvent) => {
    const from = drag.current;
    if (from)
      setMiddle([
        clamp(from.middle[0] - (event.clientX - from.x) / across, 0, 1),
        clamp(from.middle[1] - (event.clientY - from.y) / down, 0, 1),
      ]);
  };
  const moveDivider = (event: PointerEvent) => {
    if (event.buttons !== 1) return;
    const edge = area.current?.getBoundingClientRect().left ?? 0;
    setDivider(clamp((event.clientX - edge) / Math.max(room[0], 1), 0, 1));
  };
  const pixels = { imageRendering: scale >= 2 ? "pixelated" : "auto" } as const;
  const layer = (of: Side, style: React.CSSProperties = {}): ReactNode => (
    <Box data-side={of} sx={{ position: "absolute", inset: 0, overflow: "hidden" }} style={style}>
      {stills[of] && (
        <img
          src={stills[of]}
          alt={of === "source" ? "The source" : "The proof"}
          draggable={false}
          style={{
            position: "absolute",
            left,
            top,
            width: across,
            height: down,
            visibility: playing ? "hidden" : "visible",
            ...pixels,
          }}
        />
      )}
      <canvas
        ref={canvases[of]}
        style={{
          position: "absolute",
          left,
          top,
          width: across,
          height: down,
          visibility: playing ? "visible" : "hidden",
          ...pixels,
        }}
      />
    </Box>
  );
  const sign = (text: string, at: "left" | "right") => (
    <Box
      sx={{
        position: "absolute",
        top: 8,
        [at]: 8,
        px: 1,
        py: 0.25,
        borderRadius: 1,
        bgcolor: "rgba(0, 0, 0, 0.65)",
        color: "#ececec",
        fontSize: 12,
        pointerEvents: "none",
      }}
    >
      {text}
    </Box>
  );
  return (
    <Box
      ref={area}
      data-testid="compared"
      data-ready={ready}
      onWheel={wheel}
      onPointerDown={grab}
      onPointerMove={move}
      onPointerUp={() => {
        drag.current = null;
      }}
      sx={{
        position: "relative",
        flex: 1,
        minHeight: 0,
        overflow: "hidden",
        bgcolor: "background.default",
        cursor: zoom > 0 ? "grab" : "default",
        touchAction: "none",
      }}
    >
      <Box
        component="video"
        ref={player}
        src={`/api/proofs/${proof}/film`}
        muted
        playsInline
        preload="auto"
        onEnded={onStopped}
        sx={{ position: "absolute", width: 1, height: 1, opacity: 0, pointerEvents: "none" }}
      />
      {isMissing && sign("This frame could not be shown", "left")}
      {way === "divider" && (
        <>
          {layer("source")}
          {layer("made", { clipPath: `inset(0 0 0 ${String(divider * room[0])}px)` })}
          <Box
            role="slider"
            aria-label="Divider"
            aria-valuemin={0}
            aria-valuemax={100}
            aria-valuenow={Math.round(divider * 100)}
            tabIndex={0}
            onKeyDown={(event: React.KeyboardEvent) => {
              const step = { ArrowLeft: -0.02, ArrowRight: 0.02, Home: -1, End: 1 }[event.key];
              if (step === undefined) return;
              event.preventDefault();
              event.stopPropagation();
              setDivider(clamp(divider + step, 0, 1));
            }}
            data-testid="divider"
            onPointerDown={(event: PointerEvent) => {
              event.stopPropagation();
              event.currentTarget.setPointerCapture(event.pointerId);
            }}
            onPointerMove={moveDivider}
            sx={{
              position: "absolute",
              top: 0,
              bottom: 0,
              width: 15,
              ml: "-7px",
              cursor: "ew-resize",
              touchAction: "none",
              "&::after": {
                content: '""',
                position: "absolute",
                left: 7,
                top: 0,
                bottom: 0,
                width: "1px",
                bgcolor: "#ececec",
              },
            }}
            style={{ left: divider * room[0] }}
          />
          {sign("source", "left")}
          {sign("proof", "right")}
        </>
      )}
      {beside && (
        <>
          <Box sx={{ position: "absolute", left: 0, top: 0, bottom: 0, width: "calc(50% - 1px)" }}>
            {layer("source")}
            {sign("source", "left")}
          </Box>
          <Box sx={{ position: "absolute", right: 0, top: 0, bottom: 0, width: "calc(50% - 1px)" }}>
            {layer("made")}
            {sign("proof", "right")}
          </Box>
        </>
      )}
      {way === "flip" && (
        <>
          {layer("source", {
            visibility: side === "source" ? "visible" : "hidden",
            opacity: side === "source" ? 1 : 0,
          })}
          {layer("made", { opacity: side === "made" ? 1 : 0 })}
          {sign(side === "source" ? "source" : "proof", side === "source" ? "left" : "right")}
        </>
      )}
      {way === "difference" && (
        <>
          <Box sx={{ position: "absolute", inset: 0, isolation: "isolate", filter: `brightness(${String(STRONGER)})` }}>
            {layer("source")}
            {layer("made", { mixBlendMode: "difference" })}
          </Box>
          {sign(`difference, ${String(STRONGER)} times as strong`, "left")}
        </>
      )}
    </Box>
  );
}
