/** A proof and what it is held against in one picture: with a divider, side by side, flipped in place, or their difference. */
import Box from "@mui/material/Box";
import { styled } from "@mui/material/styles";
import { type PointerEvent, type ReactNode, useEffect, useRef, useState, type WheelEvent } from "react";
import { clamp } from "../bench/position";
import { useRoom } from "../shared/room";
import { whenLoaded } from "../shared/stills";

export type Way = "divider" | "beside" | "flip" | "difference";
/** The proof, and its source or another proof of the same moment. */
export type Side = "against" | "made";

/** One of the two pictures. */
export interface Shown {
  /** What it is, in a few words. */
  name: string;
  still: string;
  /** The film it moves in, and whether in its upper half or its lower. */
  film: string;
  half: "upper" | "lower";
}

interface Props {
  against: Shown;
  made: Shown;
  /** Seconds of the other film for each of the proof's. */
  pace: number;
  /** Pixels of the pictures as they are shown. */
  width: number;
  height: number;
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

const Sign = styled("div")({
  position: "absolute",
  top: 8,
  padding: "2px 8px",
  borderRadius: 8,
  backgroundColor: "rgba(0, 0, 0, 0.65)",
  color: "#ececec",
  fontSize: 12,
  pointerEvents: "none",
});

const HiddenFilm = styled("video")({ position: "absolute", width: 1, height: 1, opacity: 0, pointerEvents: "none" });

const Room = styled("div")(({ theme: { palette } }) => ({
  position: "relative",
  flex: 1,
  minHeight: 0,
  overflow: "hidden",
  backgroundColor: palette.background.default,
  touchAction: "none",
}));

const Divider = styled("div")({
  position: "absolute",
  top: 0,
  bottom: 0,
  width: 15,
  marginLeft: -7,
  cursor: "ew-resize",
  touchAction: "none",
  "&::after": { content: '""', position: "absolute", left: 7, top: 0, bottom: 0, width: 1, backgroundColor: "#ececec" },
});

/** Films that drift apart by more than this, in seconds, are put together at once; less is made up for by the pace. */
const FAR_APART = 0.4;

/** Keeps a second film in step with the first. */
function keepInStep(film: HTMLVideoElement, at: number, pace: number) {
  const behind = at - film.currentTime;
  if (Math.abs(behind) > FAR_APART) film.currentTime = at;
  else film.playbackRate = pace * (1 + clamp(behind * 2, -0.2, 0.2));
}

export function Compared({
  against,
  made,
  pace,
  width,
  height,
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
  const shown: Record<Side, Shown> = { against, made };
  const loaded = { against: useLoaded(against.still), made: useLoaded(made.still) };
  const isMissing = loaded.against.isMissing || loaded.made.isMissing;
  const ready = loaded.against.shown === against.still && loaded.made.shown === made.still;
  const player = useRef<HTMLVideoElement>(null);
  const follower = useRef<HTMLVideoElement>(null);
  const canvases: Record<Side, React.RefObject<HTMLCanvasElement | null>> = {
    against: useRef(null),
    made: useRef(null),
  };
  const isOneFilm = against.film === made.film;

  // Source and proof are halves of one film, so that they cannot drift apart; another proof is kept in step.
  useEffect(() => {
    const film = player.current;
    if (!playing || !film) return;
    const other = follower.current;
    let handle = 0;
    const put = (of: Side, from: HTMLVideoElement) => {
      const canvas = canvases[of].current;
      const [across, down] = [from.videoWidth, from.videoHeight / 2];
      if (!canvas || across === 0) return;
      if (canvas.width !== across || canvas.height !== down) [canvas.width, canvas.height] = [across, down];
      const top = shown[of].half === "upper" ? 0 : down;
      canvas.getContext("2d")?.drawImage(from, 0, top, across, down, 0, 0, across, down);
    };
    const draw = (_: number, at: VideoFrameCallbackMetadata) => {
      put("made", film);
      put("against", other ?? film);
      if (other) keepInStep(other, at.mediaTime * pace, pace);
      onMoved(at.mediaTime);
      handle = film.requestVideoFrameCallback(draw);
    };
    handle = film.requestVideoFrameCallback(draw);
    film.currentTime = start;
    if (other) {
      other.currentTime = start * pace;
      other.play().catch(onStopped);
    }
    film.play().catch(onStopped);
    return () => {
      film.cancelVideoFrameCallback(handle);
      film.pause();
      other?.pause();
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
  // Another output may have another shape: it is shown whole.
  const place = {
    position: "absolute",
    left,
    top,
    width: across,
    height: down,
    objectFit: "contain",
    imageRendering: scale >= 2 ? "pixelated" : "auto",
  } as const;
  const layer = (of: Side, style: React.CSSProperties = {}): ReactNode => (
    <Box data-side={of} sx={{ position: "absolute", inset: 0, overflow: "hidden" }} style={style}>
      {loaded[of].shown && (
        <img
          src={loaded[of].shown}
          alt={shown[of].name}
          draggable={false}
          style={{ ...place, visibility: playing ? "hidden" : "visible" }}
        />
      )}
      <canvas ref={canvases[of]} style={{ ...place, visibility: playing ? "visible" : "hidden" }} />
    </Box>
  );
  const sign = (text: string, at: "left" | "right") => <Sign style={{ [at]: 8 }}>{text}</Sign>;
  return (
    <Room
      ref={area}
      data-testid="compared"
      data-ready={ready}
      onWheel={wheel}
      onPointerDown={grab}
      onPointerMove={move}
      onPointerUp={() => {
        drag.current = null;
      }}
      style={{ cursor: zoom > 0 ? "grab" : "default" }}
    >
      <HiddenFilm ref={player} src={made.film} muted playsInline preload="auto" onEnded={onStopped} />
      {!isOneFilm && <HiddenFilm ref={follower} src={against.film} muted playsInline preload="auto" />}
      {isMissing && sign("This frame could not be shown", "left")}
      {way === "divider" && (
        <>
          {layer("against")}
          {layer("made", { clipPath: `inset(0 0 0 ${String(divider * room[0])}px)` })}
          <Divider
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
            style={{ left: divider * room[0] }}
          />
          {sign(against.name, "left")}
          {sign(made.name, "right")}
        </>
      )}
      {beside && (
        <>
          <Box sx={{ position: "absolute", left: 0, top: 0, bottom: 0, width: "calc(50% - 1px)" }}>
            {layer("against")}
            {sign(against.name, "left")}
          </Box>
          <Box sx={{ position: "absolute", right: 0, top: 0, bottom: 0, width: "calc(50% - 1px)" }}>
            {layer("made")}
            {sign(made.name, "right")}
          </Box>
        </>
      )}
      {way === "flip" && (
        <>
          {layer("against", {
            visibility: side === "against" ? "visible" : "hidden",
            opacity: side === "against" ? 1 : 0,
          })}
          {layer("made", { opacity: side === "made" ? 1 : 0 })}
          {sign(shown[side].name, side === "against" ? "left" : "right")}
        </>
      )}
      {way === "difference" && (
        <>
          <Box sx={{ position: "absolute", inset: 0, isolation: "isolate", filter: `brightness(${String(STRONGER)})` }}>
            {layer("against")}
            {layer("made", { mixBlendMode: "difference" })}
          </Box>
          {sign(`difference, ${String(STRONGER)} times as strong`, "left")}
        </>
      )}
    </Room>
  );
}
