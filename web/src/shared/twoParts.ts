/** A large part and a narrow one: beside each other, and in a narrow room one below the other. */
export const TWO_PARTS = {
  flex: 1,
  minHeight: 0,
  display: "flex",
  flexDirection: { xs: "column", md: "row" },
  overflow: { xs: "auto", md: "visible" },
} as const;

/** The large part. */
export const LARGE_PART = {
  flex: { xs: "none", md: 1 },
  minWidth: 0,
  height: { xs: 480, md: "auto" },
  display: "flex",
  flexDirection: "column",
} as const;

/** The narrow part. */
export const NARROW_PART = {
  width: { xs: "auto", md: 330 },
  flex: "none",
  overflow: "auto",
  borderLeft: { md: 1 },
  // In the same step as the border, which would take it back to black.
  borderColor: { md: "divider" },
  bgcolor: "background.paper",
  px: 2,
  pb: 2,
} as const;

/** Two parts of a dialog. */
export const DIALOG_PARTS = {
  display: "flex",
  flexDirection: { xs: "column", md: "row" },
  gap: 3,
  height: { xs: "auto", md: 460 },
} as const;
