/** The facet: our mark, the sign of a state, and a meter. A state is never told by its colour alone. */
import { useTheme } from "@mui/material/styles";
import type { RunState } from "../api/client";

export type FacetState = RunState | "off" | "idle" | "outOfDate";

interface Props {
  state: FacetState;
  /** 0 to 1, for what is at work. */
  fraction?: number;
  size?: number;
  title?: string;
}

const CENTRE = 10;
const CORNERS = [0, 1, 2, 3, 4, 5].map((corner) => {
  const angle = ((corner * 60 - 90) * Math.PI) / 180;
  return [CENTRE + 9 * Math.cos(angle), CENTRE + 9 * Math.sin(angle)] as const;
});

function point(corner: number): string {
  const [x, y] = CORNERS[corner % 6] ?? [CENTRE, CENTRE];
  return `${x.toFixed(2)} ${y.toFixed(2)}`;
}

const OUTLINE = `M${[0, 1, 2, 3, 4, 5].map(point).join("L")}Z`;
const EDGES = `M${point(0)}L${point(3)}M${point(1)}L${point(4)}M${point(2)}L${point(5)}`;

/** Sectors clockwise from the top; the last one is filled as far as it has come. */
function sectors(fraction: number): string {
  const filled = Math.max(0, Math.min(1, fraction)) * 6;
  let path = `M${String(CENTRE)} ${String(CENTRE)}L${point(0)}`;
  for (let sector = 0; sector < Math.ceil(filled); sector += 1) {
    const part = Math.min(1, filled - sector);
    const [fromX, fromY] = CORNERS[sector % 6] ?? [CENTRE, CENTRE];
    const [toX, toY] = CORNERS[(sector + 1) % 6] ?? [CENTRE, CENTRE];
    path += `L${(fromX + (toX - fromX) * part).toFixed(2)} ${(fromY + (toY - fromY) * part).toFixed(2)}`;
  }
  return `${path}Z`;
}

export function Facet({ state, fraction = 0, size = 20, title }: Props) {
  const { palette } = useTheme();
  const line = { fill: "none", strokeWidth: 1.3, strokeLinejoin: "round" } as const;
  const drawing = () => {
    switch (state) {
      case "running":
        return (
          <>
            <path d={sectors(fraction)} fill={palette.warning.main} />
            <path d={OUTLINE} {...line} stroke={palette.warning.main} />
          </>
        );
      case "checking":
        return (
          <>
            <path d={OUTLINE} fill={palette.warning.main} />
            <path d={EDGES} {...line} stroke={palette.background.default} strokeWidth={0.8} />
          </>
        );
      case "done":
        return (
          <>
            <path d={OUTLINE} fill={palette.success.main} />
            <path d={EDGES} {...line} stroke={palette.background.default} strokeWidth={0.8} />
          </>
        );
      case "failed":
        return (
          <g fill={palette.error.main}>
            <path d={`M8.6 1.8L${point(5)}L${point(4)}L8.6 18.2L6.6 12L9.4 9Z`} />
            <path d={`M12.4 2.4L${point(1)}L${point(2)}L12.4 17.6L10.6 12.4L13.2 9Z`} />
          </g>
        );
      case "paused":
        return (
          <>
            <path d={OUTLINE} {...line} stroke={palette.secondary.main} />
            <path d="M2.4 10H17.6" {...line} stroke={palette.secondary.main} strokeWidth={2.6} />
          </>
        );
      case "withheld":
        return (
          <>
            <path d={OUTLINE} fill={palette.secondary.main} />
            <path d="M2.4 10H17.6" {...line} stroke={palette.background.default} strokeWidth={3} />
          </>
        );
      case "outOfDate":
        return (
          <>
            <path d={OUTLINE} {...line} stroke={palette.success.main} />
            <path d={`M${point(1)}L${point(2)}L${point(3)}L${point(4)}Z`} fill={palette.success.main} />
          </>
        );
      case "off":
        return <path d={OUTLINE} {...line} stroke={palette.text.secondary} strokeDasharray="2 2" opacity={0.7} />;
      case "cancelled":
      case "waiting":
      case "idle":
        return <path d={OUTLINE} {...line} stroke={palette.text.secondary} opacity={state === "waiting" ? 1 : 0.75} />;
    }
  };
  return (
    <svg
      width={size}
      height={size}
      viewBox="0 0 20 20"
      role={title ? "img" : "presentation"}
      aria-label={title}
      style={{ flex: "none", display: "block" }}
    >
      {drawing()}
    </svg>
  );
}
