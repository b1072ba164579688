/** Messages at the foot of the page; refusals stay until they are put away. */
import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Snackbar from "@mui/material/Snackbar";
import { type ReactNode, useCallback, useState } from "react";
import { Refusal } from "../api/client";
import { useActions } from "./actions";
import { Key } from "./Bar";
import { type Message, TellContext } from "./messages";

export function Messages({ children }: { children: ReactNode }) {
  const [message, setMessage] = useState<Message | null>(null);
  const [last, setLast] = useState<Message | null>(null);
  const close = () => {
    setMessage(null);
  };
  const tell = useCallback((message: Message) => {
    setMessage(message);
    if (message.undo) setLast(message);
  }, []);
  const undo = (of: Message) => {
    setLast(null);
    setMessage({ text: "Taken back.", kind: "told" });
    of.undo?.().catch((error: unknown) => {
      setMessage(error instanceof Refusal ? { text: error.message, kind: "failed", problem: error.problem } : { text: String(error), kind: "failed" });
    });
  };
  useActions(last ? [{ name: `Take back: ${last.text}`, key: "u", run: () => { undo(last); } }] : []);
  return (
    <TellContext value={tell}>
      {children}
      <Snackbar
        open={message !== null}
        onClose={(_, reason) => {
          if (reason === "timeout") close();
        }}
        autoHideDuration={message?.kind === "told" ? (message.undo ? 9000 : 5000) : null}
        anchorOrigin={{ vertical: "bottom", horizontal: "left" }}
        sx={{ ml: "68px", mb: 8 }}
      >
        <Alert severity={message?.kind === "failed" ? "error" : "success"} variant="outlined" onClose={close} sx={{ bgcolor: "background.paper", maxWidth: 640 }} icon={false}>
          {message?.text}
          {message?.undo && (
            <Button size="small" sx={{ ml: 1.5, my: -0.5 }} onClick={() => { undo(message); }}>
              Take back<Key>U</Key>
            </Button>
          )}
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
