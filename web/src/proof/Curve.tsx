/** How near each frame of a proof comes to its source; its valleys are one click away. */
import { styled, useTheme } from "@mui/material/styles";
import Box from "@mui/material/Box";
import type { Comparison } from "../api/client";
import { clamp } from "../bench/position";
import { useRoom } from "../shared/room";

const HEIGHT = 72;
const ROOM = 8;

const Valley = styled("button")(({ theme: { palette } }) => ({
  all: "unset",
  position: "absolute",
  width: 11,
  height: 11,
  margin: "-5.5px 0 0 -5.5px",
  borderRadius: "50%",
  border: `2px solid ${palette.warning.main}`,
  backgroundColor: palette.background.paper,
  cursor: "pointer",
}));

export function Curve({
  comparison,
  frame,
  onFrame,
}: {
  comparison: Comparison;
  frame: number;
  onFrame: (frame: number) => void;
}) {
  const { palette } = useTheme();
  const [area, [width]] = useRoom();
  const { frames, valleys } = comparison;
  const last = Math.max(1, frames.length - 1);
  const low = Math.min(comparison.least_ssim, 0.9999);
  const toX = (place: number) => (place / last) * width;
  const toY = (ssim: number) => ROOM + (1 - (ssim - low) / (1 - low)) * (HEIGHT - 2 * ROOM);
  const path = frames
    .map((one, place) => `${place === 0 ? "M" : "L"}${toX(place).toFixed(1)} ${toY(one.ssim).toFixed(1)}`)
    .join("");
  const now = frames[frame];
  return (
    <Box
      sx={{ flex: "none", borderTop: 1, borderColor: "divider", bgcolor: "background.paper", px: 2, pt: 0.5, pb: 0.75 }}
    >
      <Box sx={{ display: "flex", gap: 2, fontSize: 12, color: "text.secondary" }} data-testid="quality-now">
        <Box>Match to source (SSIM)</Box>
        {now && (
          <Box sx={{ color: "text.primary" }}>
            this frame {now.ssim.toFixed(4)} · {now.psnr >= 100 ? "identical" : `${now.psnr.toFixed(1)} dB`}
          </Box>
        )}
        <Box sx={{ flex: 1 }} />
        <Box>from {low.toFixed(3)} to 1</Box>
      </Box>
      <Box
        ref={area}
        data-testid="curve"
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          onFrame(
            clamp(
              Math.round(
                ((event.clientX - event.currentTarget.getBoundingClientRect().left) / Math.max(width, 1)) * last,
              ),
              0,
              frames.length - 1,
            ),
          );
        }}
        onPointerMove={(event) => {
          if (event.buttons === 1)
            onFrame(
              clamp(
                Math.round(
                  ((event.clientX - event.currentTarget.getBoundingClientRect().left) / Math.max(width, 1)) * last,
                ),
                0,
                frames.length - 1,
              ),
            );
        }}
        sx={{ position: "relative", height: HEIGHT, cursor: "crosshair", touchAction: "none" }}
      >
        <svg width={width} height={HEIGHT} style={{ display: "block" }} aria-hidden>
          <path d={`M0 ${String(ROOM)}H${String(width)}`} stroke={palette.divider} strokeDasharray="2 3" />
          <path d={path} fill="none" stroke={palette.primary.main} strokeWidth={1.4} />
          <path d={`M${toX(frame).toFixed(1)} 0V${String(HEIGHT)}`} stroke={palette.text.primary} />
        </svg>
        {valleys.map((place) => (
          <Valley
            key={place}
            data-testid="valley"
            title={`Frame ${String(place + 1)}: SSIM ${(frames[place]?.ssim ?? 0).toFixed(4)}`}
            aria-label={`To the valley at frame ${String(place + 1)}`}
            onPointerDown={(event: React.PointerEvent) => {
              event.stopPropagation();
            }}
            onClick={() => {
              onFrame(place);
            }}
            style={{ left: toX(place), top: toY(frames[place]?.ssim ?? 1) }}
          />
        ))}
      </Box>
    </Box>
  );
}
