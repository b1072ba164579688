/** The part of the picture that is kept, drawn over it, with handles. */
import Box from "@mui/material/Box";
import type { SxProps } from "@mui/material/styles";
import { type CSSProperties, useState } from "react";
import type { Crop } from "../api/client";
import { dragged, type Edges, type Rectangle } from "./crop";

interface Props {
  crop: Crop;
  /** The size of the drawn picture in pixels of the page. */
  width: number;
  height: number;
  /** Where it can be changed. */
  onDrag?: (part: Rectangle) => void;
}

const HANDLES: Edges[] = [
  { x: -1, y: -1 },
  { x: 0, y: -1 },
  { x: 1, y: -1 },
  { x: -1, y: 0 },
  { x: 1, y: 0 },
  { x: -1, y: 1 },
  { x: 0, y: 1 },
  { x: 1, y: 1 },
];
const CURSORS: Record<string, string> = {
  "-1-1": "nwse-resize",
  "11": "nwse-resize",
  "1-1": "nesw-resize",
  "-11": "nesw-resize",
  "0-1": "ns-resize",
  "01": "ns-resize",
  "-10": "ew-resize",
  "10": "ew-resize",
};

/** Pixels of the source that an arrow key moves a handle by; with Shift ten times as many. */
const STEP = 2;

const ARROWS: Record<string, [number, number]> = {
  ArrowLeft: [-STEP, 0],
  ArrowRight: [STEP, 0],
  ArrowUp: [0, -STEP],
  ArrowDown: [0, STEP],
};

function wordsOf({ x, y }: Edges): string {
  const down = ["top", "", "bottom"][y + 1];
  const across = ["left", "", "right"][x + 1];
  return [down, across].filter(Boolean).join(" ");
}

/** Kept in words that tests and cursors go by. */
function nameOf(edges: Edges): string {
  return `${String(edges.x)}${String(edges.y)}`;
}

export function CropFrame({ crop, width, height, onDrag }: Props) {
  const across = width / crop.width;
  const down = height / crop.height;
  const { part } = crop;
  const place = { left: part.x * across, top: part.y * down, width: part.width * across, height: part.height * down };
  const shade = {
    position: "absolute",
    outline: "1px solid",
    outlineColor: "primary.main",
    boxShadow: "0 0 0 9999px rgba(0, 0, 0, 0.6)",
  } as const;
  if (!onDrag) return <Box sx={shade} style={place} />;
  const grip = (edges: Edges) => ({
    part,
    edges,
    scale: [across, down] as const,
    move: (from: Rectangle, x: number, y: number) => {
      onDrag(dragged(from, edges, x / across, y / down, crop.width, crop.height));
    },
  });
  return (
    <Box sx={shade} style={place}>
      <Grip
        {...grip({ x: 0, y: 0 })}
        testid="crop-frame"
        name="What is kept: the arrow keys move it"
        sx={{ position: "absolute", inset: 0, cursor: "move", touchAction: "none" }}
        style={{}}
      />
      {HANDLES.map((edges) => (
        <Grip
          key={nameOf(edges)}
          {...grip(edges)}
          testid={`crop-handle-${nameOf(edges)}`}
          name={`Edge of what is kept, ${wordsOf(edges)}: the arrow keys move it`}
          sx={{
            position: "absolute",
            width: 12,
            height: 12,
            transform: "translate(-50%, -50%)",
            bgcolor: "primary.main",
            border: 2,
            borderColor: "background.default",
            borderRadius: 0.5,
            cursor: CURSORS[nameOf(edges)],
            touchAction: "none",
          }}
          style={{ left: `${String((edges.x + 1) * 50)}%`, top: `${String((edges.y + 1) * 50)}%` }}
        />
      ))}
    </Box>
  );
}

interface GripProps {
  part: Rectangle;
  testid: string;
  name: string;
  /** Pixels of the page that one of the source takes, across and down. */
  scale: readonly [number, number];
  /** Told what the part was when the drag began, and how far it has come in pixels of the page. */
  move: (from: Rectangle, x: number, y: number) => void;
  sx: SxProps;
  style: CSSProperties;
}

/** Something that can be dragged, or moved by the arrow keys. */
function Grip({ part, testid, name, scale, move, sx, style }: GripProps) {
  const [start, setStart] = useState<{ x: number; y: number; part: Rectangle } | null>(null);
  return (
    <Box
      data-testid={testid}
      role="slider"
      tabIndex={0}
      aria-label={name}
      aria-valuenow={part.width}
      aria-valuetext={`${String(part.width)} by ${String(part.height)}, ${String(part.x)} from the left, ${String(part.y)} from the top`}
      onKeyDown={(event: React.KeyboardEvent) => {
        const step = ARROWS[event.key];
        if (!step) return;
        event.preventDefault();
        event.stopPropagation();
        const times = event.shiftKey ? 10 : 1;
        move(part, step[0] * times * scale[0], step[1] * times * scale[1]);
      }}
      onPointerDown={(event: React.PointerEvent) => {
        event.stopPropagation();
        event.currentTarget.setPointerCapture(event.pointerId);
        setStart({ x: event.clientX, y: event.clientY, part });
      }}
      onPointerMove={(event: React.PointerEvent) => {
        if (start) move(start.part, event.clientX - start.x, event.clientY - start.y);
      }}
      onPointerUp={() => {
        setStart(null);
      }}
      sx={sx}
      style={style}
    />
  );
}
