/** The part of the picture that is kept, drawn over it, with handles. */
import Box from "@mui/material/Box";
import type { SxProps } from "@mui/material/styles";
import { type CSSProperties, type ReactNode, useState } from "react";
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
    move: (from: Rectangle, x: number, y: number) => {
      onDrag(dragged(from, edges, x / across, y / down, crop.width, crop.height));
    },
  });
  return (
    <Grip
      {...grip({ x: 0, y: 0 })}
      testid="crop-frame"
      sx={{ ...shade, cursor: "move", touchAction: "none" }}
      style={place}
    >
      {HANDLES.map((edges) => (
        <Grip
          key={nameOf(edges)}
          {...grip(edges)}
          testid={`crop-handle-${nameOf(edges)}`}
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
    </Grip>
  );
}

interface GripProps {
  part: Rectangle;
  testid: string;
  /** Told what the part was when the drag began, and how far it has come in pixels of the page. */
  move: (from: Rectangle, x: number, y: number) => void;
  sx: SxProps;
  style: CSSProperties;
  children?: ReactNode;
}

/** Something that can be dragged. */
function Grip({ part, testid, move, sx, style, children }: GripProps) {
  const [start, setStart] = useState<{ x: number; y: number; part: Rectangle } | null>(null);
  return (
    <Box
      data-testid={testid}
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
    >
      {children}
    </Box>
  );
}
