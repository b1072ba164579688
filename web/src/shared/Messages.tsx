/** Messages at the foot of the page; refusals stay until they are put away. */
import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Snackbar from "@mui/material/Snackbar";
import { type ReactNode, useState } from "react";
import { type Message, TellContext } from "./messages";

export function Messages({ children }: { children: ReactNode }) {
  const [message, setMessage] = useState<Message | null>(null);
  const close = () => {
    setMessage(null);
  };
  return (
    <TellContext value={setMessage}>
      {children}
      <Snackbar
        open={message !== null}
        onClose={(_, reason) => {
          if (reason === "timeout") close();
        }}
        autoHideDuration={message?.kind === "told" ? 5000 : null}
        anchorOrigin={{ vertical: "bottom", horizontal: "left" }}
        sx={{ ml: "68px", mb: 8 }}
      >
        <Alert severity={message?.kind === "failed" ? "error" : "success"} variant="outlined" onClose={close} sx={{ bgcolor: "background.paper", maxWidth: 640 }} icon={false}>
          {message?.text}
          {message?.problem && <Box sx={{ color: "text.secondary", mt: 0.5 }}>{message.problem.next}</Box>}
          {message?.problem?.details && (
            <Box component="details" sx={{ color: "text.secondary", mt: 0.5, fontSize: 12 }}>
              <summary>technical details</summary>
              {message.problem.details}
            </Box>
          )}
        </Alert>
      </Snackbar>
    </TellContext>
  );
}
