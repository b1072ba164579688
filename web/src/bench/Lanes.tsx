/** The lanes under the picture: what the source is over time, all on one axis with one playhead. */
import { styled, useTheme } from "@mui/material/styles";
import Box from "@mui/material/Box";
import { type PointerEvent, useEffect, useRef, useState, type WheelEvent } from "react";
import type { Curves, Reading } from "../api/client";
import { useRoom } from "../shared/room";
import { MONO } from "../shared/theme";
import { type Count, timecodeText } from "../shared/timecode";
import { fraction } from "../shared/words";
import type { Marks } from "./marks";
import { clamp, type Clock, lastNotAfter } from "./position";

/** The part of the source that is shown, in seconds. */
export interface View {
  from: number;
  to: number;
}

interface Props {
  source: string;
  reading: Reading | null | undefined;
  curves: Curves | undefined;
  clock: Clock;
  view: View;
  position: number;
  marks: Marks;
  onView: (view: View) => void;
  onSeek: (seconds: number) => void;
}

const LABEL_WIDTH = 92;
const STRIP_PICTURE = 80;
const STRETCH_WORDS: Record<string, string> = {
  progressive: "progressive",
  interlaced: "interlaced",
  telecine: "telecined",
};

const Whole = styled("div")(({ theme: { palette } }) => ({
  flex: "none",
  display: "flex",
  borderTop: `1px solid ${palette.divider}`,
  backgroundColor: palette.background.paper,
  userSelect: "none",
}));

const Labels = styled("div")(({ theme: { palette, spacing } }) => ({
  width: LABEL_WIDTH,
  flex: "none",
  fontSize: 12,
  color: palette.text.secondary,
  "& > div": { padding: spacing(0, 1.5), display: "flex", alignItems: "center" },
}));

const Area = styled("div")(({ theme: { spacing } }) => ({
  position: "relative",
  flex: 1,
  minWidth: 0,
  marginRight: spacing(2),
  cursor: "crosshair",
  touchAction: "none",
  overflow: "hidden",
}));

const FieldStretch = styled("div", { shouldForwardProp: (prop) => prop !== "kind" })<{
  kind: "progressive" | "telecine" | "interlaced";
}>(({ theme: { palette, spacing }, kind }) => ({
  position: "absolute",
  top: 3,
  height: 16,
  backgroundColor: kind === "progressive" ? palette.action.selected : "transparent",
  border: `1px solid ${{ telecine: palette.warning.main, interlaced: palette.primary.main, progressive: palette.divider }[kind]}`,
  borderRadius: 6,
  fontSize: 11,
  lineHeight: "14px",
  padding: spacing(0, 0.5),
  overflow: "hidden",
  whiteSpace: "nowrap",
  color: palette.text.secondary,
}));

const ChapterMark = styled("div")(({ theme: { palette, spacing } }) => ({
  position: "absolute",
  borderLeft: `1px solid ${palette.divider}`,
  paddingLeft: spacing(0.5),
  whiteSpace: "nowrap",
}));

const Tick = styled("div")(({ theme: { palette, spacing } }) => ({
  position: "absolute",
  borderLeft: `1px solid ${palette.divider}`,
  paddingLeft: spacing(0.5),
  lineHeight: "20px",
  whiteSpace: "nowrap",
}));

export function Lanes({ source, reading, curves, clock, view, position, marks, onView, onSeek }: Props) {
  const theme = useTheme();
  const [area, [width]] = useRoom();
  const span = Math.max(view.to - view.from, 1e-3);
  const toX = (seconds: number) => ((seconds - view.from) / span) * width;
  const seekTo = (event: PointerEvent) => {
    const left = area.current?.getBoundingClientRect().left ?? 0;
    onSeek(clamp(view.from + ((event.clientX - left) / Math.max(width, 1)) * span, 0, clock.length));
  };
  const zoom = (event: WheelEvent) => {
    const left = area.current?.getBoundingClientRect().left ?? 0;
    const at = view.from + ((event.clientX - left) / Math.max(width, 1)) * span;
    const wanted = clamp(span * (event.deltaY > 0 ? 1.25 : 0.8), Math.min(10 / clock.rate, clock.length), clock.length);
    const from = clamp(at - ((at - view.from) / span) * wanted, 0, Math.max(0, clock.length - wanted));
    onView({ from, to: from + wanted });
  };
  const { palette } = theme;
  const ink = {
    act: palette.primary.main,
    work: palette.warning.main,
    line: palette.divider,
    second: palette.text.secondary,
    done: palette.success.main,
    surface: palette.action.selected,
  };
  const findings = reading?.findings;
  const chapters = reading?.chapters ?? [];
  const height = reading ? pictureHeight(reading) : 0;
  return (
    <Whole>
      <Labels>
        <Box sx={{ height: 20 }} />
        <Box sx={{ height: 48 }}>Filmstrip</Box>
        <Box sx={{ height: 20 }}>Marks</Box>
        <Box sx={{ height: 22 }}>Fields</Box>
        <Box sx={{ height: 34 }}>Combing</Box>
        <Box sx={{ height: 28 }}>Bars</Box>
        <Box sx={{ height: 34 }}>Loudness</Box>
        {chapters.length > 0 && <Box sx={{ height: 22 }}>Chapters</Box>}
      </Labels>
      <Area
        ref={area}
        role="slider"
        tabIndex={0}
        aria-label="Position in the source"
        aria-valuemin={0}
        aria-valuemax={clock.length}
        aria-valuenow={position}
        aria-valuetext={timecodeText(position, clock.count)}
        data-testid="lanes"
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          seekTo(event);
        }}
        onPointerMove={(event) => {
          if (event.buttons === 1) seekTo(event);
        }}
        onWheel={zoom}
      >
        <Axis view={view} count={clock.count} toX={toX} width={width} />
        <Strip source={source} clock={clock} view={view} width={width} />
        <MarksLane marks={marks} clock={clock} position={position} toX={toX} />
        <Box sx={{ position: "relative", height: 22 }}>
          {findings?.fields?.stretches.map((stretch) => {
            const [from, to] = [toX(fraction(stretch.from)), toX(fraction(stretch.to))];
            const { kind } = stretch;
            return (
              <FieldStretch
                key={stretch.first_frame}
                title={STRETCH_WORDS[kind.is]}
                style={{ left: from, width: Math.max(1, to - from - 1) }}
                kind={kind.is}
              >
                {STRETCH_WORDS[kind.is]}
              </FieldStretch>
            );
          })}
        </Box>
        <Drawing
          height={34}
          width={width}
          draw={(pen) => {
            if (curves) drawFrames(pen, curves.frames, curves.combing, 160, view, width, 34, ink.act);
          }}
          token={[curves, view, width, ink.act]}
        />
        <Drawing
          height={28}
          width={width}
          draw={(pen) => {
            if (curves) drawBars(pen, curves, height, view, width, 28, ink.work, ink.surface);
          }}
          token={[curves, view, width, ink.work]}
        />
        <Drawing
          height={34}
          width={width}
          draw={(pen) => {
            if (curves) drawLoudness(pen, curves.loudness[0] ?? [], view, width, 34, ink.done);
          }}
          token={[curves, view, width, ink.done]}
        />
        {chapters.length > 0 && (
          <Box sx={{ position: "relative", height: 22, fontSize: 11, color: "text.secondary" }}>
            {chapters.map((chapter) => (
              <ChapterMark key={chapter.start} style={{ left: toX(fraction(chapter.start)) }}>
                {chapter.title}
              </ChapterMark>
            ))}
          </Box>
        )}
        <Box
          data-testid="playhead"
          sx={{ position: "absolute", top: 0, bottom: 0, width: "1px", bgcolor: "text.primary", pointerEvents: "none" }}
          style={{ left: toX(position) }}
        />
      </Area>
    </Whole>
  );
}

/** What is taken, and where a part that is being marked begins. */
function MarksLane({
  marks,
  clock,
  position,
  toX,
}: {
  marks: Marks;
  clock: Clock;
  position: number;
  toX: (seconds: number) => number;
}) {
  const timeOf = (frame: number) => (frame < clock.frames ? clock.timeOf(frame) : clock.length);
  const bar = (from: number, to: number) => ({ left: toX(from), width: Math.max(2, toX(to) - toX(from)) });
  return (
    <Box data-testid="marks-lane" sx={{ position: "relative", height: 20 }}>
      {marks.parts.map((part) => (
        <Box
          key={part.first}
          data-testid="marked"
          sx={{ position: "absolute", top: 5, height: 10, borderRadius: 0.5, bgcolor: "primary.main", opacity: 0.85 }}
          style={bar(timeOf(part.first), timeOf(part.end))}
        />
      ))}
      {marks.open !== null && (
        <Box
          sx={{ position: "absolute", top: 5, height: 10, borderLeft: 2, borderBottom: 2, borderColor: "warning.main" }}
          style={bar(timeOf(marks.open), Math.max(position, timeOf(marks.open)))}
        />
      )}
    </Box>
  );
}

function pictureHeight(reading: Reading): number {
  for (const { content } of reading.streams) if (content.kind === "picture") return content.height;
  return 0;
}

/** Times along the lanes, as many as have room. */
function Axis({
  view,
  count: counted,
  toX,
  width,
}: {
  view: View;
  count: Count;
  toX: (seconds: number) => number;
  width: number;
}) {
  const { rate } = counted;
  const steps = [1 / rate, 5 / rate, 10 / rate, 1, 2, 5, 10, 30, 60, 120, 300, 600, 1800, 3600];
  const room = Math.max(1, Math.floor(width / 110));
  const step = steps.find((one) => (view.to - view.from) / one <= room) ?? 3600;
  const first = Math.ceil(view.from / step);
  const count = Math.max(0, Math.floor(view.to / step) - first + 1);
  return (
    <Box sx={{ position: "relative", height: 20, fontFamily: MONO, fontSize: 11, color: "text.secondary" }}>
      {Array.from({ length: Math.min(count, room + 1) }, (_, place) => (first + place) * step).map((time) => (
        <Tick key={time} style={{ left: toX(time) }}>
          {timecodeText(time, counted)}
        </Tick>
      ))}
    </Box>
  );
}

/** Small pictures side by side, each of the moment at its middle. */
function Strip({ source, clock, view, width }: { source: string; clock: Clock; view: View; width: number }) {
  // Pictures are asked for when the view has come to rest.
  const [rested, setRested] = useState(view);
  useEffect(() => {
    const timer = window.setTimeout(() => {
      setRested(view);
    }, 250);
    return () => {
      window.clearTimeout(timer);
    };
  }, [view]);
  const count = Math.max(1, Math.floor(width / STRIP_PICTURE));
  if (width === 0 || clock.length === 0) return <Box sx={{ height: 48 }} />;
  return (
    <Box sx={{ height: 48, display: "flex", gap: "1px", bgcolor: "#000" }}>
      {Array.from({ length: count }, (_, place) => {
        const time = rested.from + ((place + 0.5) / count) * (rested.to - rested.from);
        const at = clock.exactTimeOf(clock.frameAt(time));
        return (
          <Box
            key={place}
            component="img"
            alt=""
            draggable={false}
            loading="lazy"
            src={`/api/sources/${source}/still?at=${at}&width=96`}
            sx={{ flex: 1, minWidth: 0, height: 48, objectFit: "cover" }}
          />
        );
      })}
    </Box>
  );
}

type Pen = CanvasRenderingContext2D;

/** A canvas that is drawn anew when something in `token` changes. */
function Drawing({
  height,
  width,
  draw,
  token,
}: {
  height: number;
  width: number;
  draw: (pen: Pen) => void;
  token: unknown[];
}) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const dense = window.devicePixelRatio;
  useEffect(() => {
    const pen = canvas.current?.getContext("2d");
    if (!pen) return;
    pen.setTransform(dense, 0, 0, dense, 0, 0);
    pen.clearRect(0, 0, width, height);
    draw(pen);
    // What is drawn depends on the token alone.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [...token, height, dense]);
  return (
    <canvas ref={canvas} width={width * dense} height={height * dense} style={{ display: "block", width, height }} />
  );
}

/** The highest value of the frames that fall on each column of the drawing. */
function drawFrames(
  pen: Pen,
  times: number[],
  values: number[],
  full: number,
  view: View,
  width: number,
  height: number,
  ink: string,
): void {
  pen.fillStyle = ink;
  const span = view.to - view.from;
  let place = Math.max(0, lastNotAfter(times, view.from * 1000));
  for (let x = 0; x < width; x += 1) {
    const end = (view.from + ((x + 1) / width) * span) * 1000;
    let most = values[place] ?? 0;
    while (place + 1 < times.length && (times[place + 1] ?? 0) < end) {
      place += 1;
      most = Math.max(most, values[place] ?? 0);
    }
    const tall = Math.min(1, most / full) * (height - 4);
    if (tall > 0) pen.fillRect(x, height - 2 - tall, 1, tall);
  }
}

/** The picture between its bars, as seen from the side. */
function drawBars(
  pen: Pen,
  curves: Curves,
  lines: number,
  view: View,
  width: number,
  height: number,
  ink: string,
  ground: string,
): void {
  if (lines === 0) return;
  const inner = height - 6;
  pen.fillStyle = ground;
  pen.fillRect(0, 3, width, inner);
  pen.fillStyle = ink;
  const toX = (milliseconds: number) => ((milliseconds / 1000 - view.from) / (view.to - view.from)) * width;
  curves.bars.forEach(([at, bars], place) => {
    const next = curves.bars[place + 1]?.[0] ?? view.to * 1000;
    const [from, to] = [Math.max(0, toX(at)), Math.min(width, toX(next))];
    if (to <= 0 || from >= width) return;
    pen.fillRect(from, 3, to - from, (bars.top / lines) * inner);
    pen.fillRect(from, 3 + inner - (bars.bottom / lines) * inner, to - from, (bars.bottom / lines) * inner);
  });
}

/** Momentary loudness from −60 LUFS to 0. */
function drawLoudness(
  pen: Pen,
  points: [number, number][],
  view: View,
  width: number,
  height: number,
  ink: string,
): void {
  pen.fillStyle = ink;
  const span = view.to - view.from;
  for (const [at, level] of points) {
    const x = ((at / 1000 - view.from) / span) * width;
    if (x < -4 || x > width) continue;
    const tall = Math.min(1, Math.max(0, (level + 60) / 60)) * (height - 4);
    pen.fillRect(x, height - 2 - tall, Math.max(1, (0.1 / span) * width + 0.5), tall);
  }
}
