/** The two themes: neutral greys around any picture, and the colours of the beryl family. */
import { createTheme, type Theme } from "@mui/material/styles";

interface Tones {
  page: string;
  surface: string;
  raised: string;
  line: string;
  ink: string;
  second: string;
  act: string;
  onAct: string;
  work: string;
  done: string;
  failed: string;
  held: string;
}

const NIGHT: Tones = {
  page: "#1d1d1d",
  surface: "#262626",
  raised: "#303030",
  line: "#3b3b3b",
  ink: "#ececec",
  second: "#a0a0a0",
  act: "#5fc4c9",
  onAct: "#0f2021",
  work: "#e4bd4a",
  done: "#5cc08c",
  failed: "#f0707f",
  held: "#eaa6b0",
};

const DAY: Tones = {
  page: "#e6e6e6",
  surface: "#f5f5f5",
  raised: "#ffffff",
  line: "#cfcfcf",
  ink: "#1b1b1b",
  second: "#5f5f5f",
  act: "#15646b",
  onAct: "#ffffff",
  work: "#9a7400",
  done: "#23774a",
  failed: "#b3263f",
  held: "#a9566a",
};

export const MONO = "'JetBrains Mono Variable', monospace";

export function themeOf(mode: "light" | "dark"): Theme {
  const tones = mode === "dark" ? NIGHT : DAY;
  return createTheme({
    palette: {
      mode,
      background: { default: tones.page, paper: tones.surface },
      text: { primary: tones.ink, secondary: tones.second },
      divider: tones.line,
      primary: { main: tones.act, contrastText: tones.onAct },
      warning: { main: tones.work },
      success: { main: tones.done },
      error: { main: tones.failed },
      secondary: { main: tones.held },
      action: { active: tones.second, hover: tones.raised, selected: tones.raised },
      grey: { 800: tones.raised, 700: tones.line },
    },
    shape: { borderRadius: 8 },
    typography: {
      fontFamily: "'Hanken Grotesk Variable', sans-serif",
      fontSize: 13,
      body1: { fontSize: 13 },
      button: { textTransform: "none", fontWeight: 600 },
    },
    components: {
      MuiCssBaseline: {
        styleOverrides: {
          // One look for whatever has the focus; fields draw their own frame.
          "*:focus-visible:not(input, textarea, [role=dialog])": {
            outline: `2px solid ${tones.act} !important`,
            outlineOffset: "-2px",
          },
          body: { fontVariantNumeric: "tabular-nums", overflow: "hidden" },
          "@media (prefers-reduced-motion: reduce)": {
            "*": { transition: "none !important", animation: "none !important" },
          },
        },
      },
      MuiButtonBase: { defaultProps: { disableRipple: true } },
      MuiButton: { defaultProps: { disableElevation: true, size: "small" } },
      MuiDialogActions: { styleOverrides: { root: { padding: "8px 24px 16px" } } },
      MuiDialogTitle: { styleOverrides: { root: { fontSize: 16, fontWeight: 700 } } },
      MuiPaper: { styleOverrides: { root: { backgroundImage: "none" } } },
      MuiTooltip: { defaultProps: { enterDelay: 500, arrow: true } },
    },
  });
}

/** Text on one line, cut where there is no room. */
export const clipped = { whiteSpace: "nowrap", overflow: "hidden", textOverflow: "ellipsis" } as const;
