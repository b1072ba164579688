/** What stands where something is not loaded: that it is on its way, or why it is not there. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { Refusal } from "../api/client";
import { Facet } from "./Facet";

interface Props {
  /** Why it could not be loaded; nothing while it is on its way. */
  error: unknown;
  onAgain?: () => void;
}

export function Pending({ error, onAgain }: Props) {
  if (error === null || error === undefined) {
    return (
      <Box
        role="status"
        aria-busy
        data-testid="loading"
        sx={{ m: "auto", p: 4, color: "text.secondary", textAlign: "center" }}
      >
        <Facet state="waiting" size={34} />
        <Box sx={{ mt: 1 }}>Loading …</Box>
      </Box>
    );
  }
  const words = error instanceof Error ? error.message : "It could not be shown.";
  const next = error instanceof Refusal ? error.problem.next : "";
  return (
    <Box role="alert" data-testid="failed" sx={{ m: "auto", p: 4, maxWidth: 520, textAlign: "center" }}>
      <Facet state="failed" size={34} />
      <Box sx={{ mt: 1, fontWeight: 600, color: "error.main", overflowWrap: "anywhere" }}>{words}</Box>
      {next && <Box sx={{ mt: 0.5, color: "text.secondary" }}>{next}</Box>}
      {onAgain && (
        <Button sx={{ mt: 1.5 }} variant="outlined" color="inherit" onClick={onAgain}>
          Try again
        </Button>
      )}
    </Box>
  );
}
