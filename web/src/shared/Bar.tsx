/** The head of a place: its name, what it holds, and its actions. */
import Box from "@mui/material/Box";
import type { ReactNode } from "react";

export function Bar({ title, detail, children }: { title: ReactNode; detail?: ReactNode; children?: ReactNode }) {
  return (
    <Box
      component="header"
      sx={{
        minHeight: 45,
        flex: "none",
        display: "flex",
        flexWrap: "wrap",
        alignItems: "center",
        columnGap: 2,
        px: 2,
        borderBottom: 1,
        borderColor: "divider",
      }}
    >
      <Box
        component="h1"
        sx={{ fontSize: 16, fontWeight: 700, m: 0, whiteSpace: "nowrap", overflow: "hidden", textOverflow: "ellipsis" }}
      >
        {title}
      </Box>
      <Box sx={{ color: "text.secondary", fontSize: 13, whiteSpace: "nowrap" }}>{detail}</Box>
      <Box sx={{ flex: 1 }} />
      {children}
      {typeof title === "string" && <title>{`${title} · Beryl`}</title>}
    </Box>
  );
}

/** A key, as drawn beside the action it calls. */
export function Key({ children, onAccent = false }: { children: ReactNode; onAccent?: boolean }) {
  return (
    <Box
      component="kbd"
      sx={{
        font: "inherit",
        fontSize: 11,
        lineHeight: 1.5,
        border: 1,
        borderColor: onAccent ? "currentColor" : "divider",
        borderRadius: 1,
        px: 0.6,
        ml: 0.75,
        color: onAccent ? "inherit" : "text.secondary",
        opacity: onAccent ? 0.8 : 1,
      }}
    >
      {children}
    </Box>
  );
}
