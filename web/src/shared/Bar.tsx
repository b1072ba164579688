/** The head of a place: its name, what it holds, and its actions. */
import { styled } from "@mui/material/styles";
import Box from "@mui/material/Box";
import type { ReactNode } from "react";

const Head = styled("header")(({ theme: { palette, spacing } }) => ({
  minHeight: 45,
  flex: "none",
  display: "flex",
  flexWrap: "wrap",
  alignItems: "center",
  columnGap: spacing(2),
  padding: spacing(0, 2),
  borderBottom: `1px solid ${palette.divider}`,
}));

const Letter = styled("kbd", { shouldForwardProp: (prop) => prop !== "isOnAccent" })<{ isOnAccent: boolean }>(
  ({ theme: { palette, spacing }, isOnAccent }) => ({
    font: "inherit",
    fontSize: 11,
    lineHeight: 1.5,
    border: `1px solid ${isOnAccent ? "currentColor" : palette.divider}`,
    borderRadius: 8,
    padding: spacing(0, 0.6),
    marginLeft: spacing(0.75),
    color: isOnAccent ? "inherit" : palette.text.secondary,
    opacity: isOnAccent ? 0.8 : 1,
  }),
);

export function Bar({ title, detail, children }: { title: ReactNode; detail?: ReactNode; children?: ReactNode }) {
  return (
    <Head>
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
    </Head>
  );
}

/** A key, as drawn beside the action it calls. */
export function Key({ children, onAccent = false }: { children: ReactNode; onAccent?: boolean }) {
  return <Letter isOnAccent={onAccent}>{children}</Letter>;
}
