/** Says at once when the server does not answer; what is shown is as it was until then. */
import Box from "@mui/material/Box";
import { useSyncExternalStore } from "react";
import { connection } from "../api/connection";

export function Connection() {
  const isThere = useSyncExternalStore(connection.subscribe, connection.isThere);
  if (isThere) return null;
  return (
    <Box
      role="alert"
      data-testid="gone"
      sx={{ flex: "none", px: 2.5, py: 0.75, bgcolor: "warning.main", color: "warning.contrastText", fontWeight: 600 }}
    >
      The server does not answer. It is tried again; what you see is as it was.
    </Box>
  );
}
