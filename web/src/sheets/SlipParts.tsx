/** Small parts of the slip. */
import Box from "@mui/material/Box";
import type { ReactNode } from "react";

export function Heading({ children }: { children: ReactNode }) {
  return (
    <Box component="h2" sx={{ fontSize: 12, fontWeight: 600, color: "text.secondary", mt: 2, mb: 0.75 }}>
      {children}
    </Box>
  );
}

export function Line({ name, children }: { name: string; children: ReactNode }) {
  return (
    <Box sx={{ display: "flex", gap: 1, mb: 0.4 }}>
      <Box sx={{ color: "text.secondary", width: 72, flex: "none" }}>{name}</Box>
      <Box sx={{ minWidth: 0, overflowWrap: "anywhere" }}>{children}</Box>
    </Box>
  );
}
