/** Messages at the foot of the page; refusals stay until they are put away. */
import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import Snackbar from "@mui/material/Snackbar";
import { type ReactNode, useCallback, useState } from "react";
import { Refusal } from "../api/client";
import { useActions } from "./actions";
import { Key } from "./Bar";
import { AskContext, type Message, type Question, TellContext } from "./messages";

/** Steps that can be taken back, at most. */
const MOST_STEPS = 50;

function refusalOf(error: unknown): Message {
  if (error instanceof Refusal) return { text: error.message, kind: "failed", problem: error.problem };
  return { text: error instanceof Error ? error.message : "It could not be done.", kind: "failed" };
}

export function Messages({ children }: { children: ReactNode }) {
  const [told, setTold] = useState<Message | null>(null);
  const [refusals, setRefusals] = useState<Message[]>([]);
  const [steps, setSteps] = useState<Message[]>([]);
  const [question, setQuestion] = useState<(Question & { answer: (yes: boolean) => void }) | null>(null);
  const tell = useCallback((message: Message) => {
    if (message.kind === "failed") setRefusals((others) => [...others, message]);
    else if (message.kind === "told") setTold(message);
    if (message.undo) setSteps((others) => [...others, message].slice(-MOST_STEPS));
  }, []);
  const ask = useCallback(
    (question: Question) =>
      new Promise<boolean>((resolve) => {
        setQuestion({
          ...question,
          answer: (yes) => {
            setQuestion(null);
            resolve(yes);
          },
        });
      }),
    [],
  );
  const undo = (step: Message) => {
    setSteps((others) => others.filter((other) => other !== step));
    setTold({ text: `Undone: ${step.text}`, kind: "told" });
    step.undo?.().catch((error: unknown) => {
      setTold(null);
      tell(refusalOf(error));
    });
  };
  const last = steps.at(-1);
  useActions(
    last
      ? ["u", "Ctrl+z"].map((key) => ({
          name: `Undo: ${last.text}`,
          key,
          run: () => {
            undo(last);
          },
        }))
      : [],
  );
  return (
    <TellContext value={tell}>
      <AskContext value={ask}>
        {children}
        <Box
          sx={{ position: "fixed", left: 88, bottom: 140, zIndex: "snackbar", display: "grid", gap: 1, maxWidth: 640 }}
        >
          {refusals.map((refusal, number) => (
            <Refused
              key={`${String(number)} ${refusal.text}`}
              message={refusal}
              onClose={() => {
                setRefusals((others) => others.filter((other) => other !== refusal));
              }}
            />
          ))}
        </Box>
        <Snackbar
          open={told !== null}
          onClose={(_, reason) => {
            if (reason === "timeout") setTold(null);
          }}
          autoHideDuration={told?.undo ? 9000 : 5000}
          anchorOrigin={{ vertical: "bottom", horizontal: "left" }}
          sx={{ ml: "68px", mb: 8 }}
        >
          <Alert
            severity="success"
            variant="outlined"
            role="status"
            onClose={() => {
              setTold(null);
            }}
            sx={{ bgcolor: "background.paper", maxWidth: 640 }}
            icon={false}
          >
            {told?.text}
            {told?.undo && steps.includes(told) && (
              <Button
                size="small"
                sx={{ ml: 1.5, my: -0.5 }}
                onClick={() => {
                  undo(told);
                }}
              >
                Undo<Key>Ctrl + Z</Key>
              </Button>
            )}
          </Alert>
        </Snackbar>
        {question && (
          <Dialog
            open
            aria-labelledby="question"
            onClose={() => {
              question.answer(false);
            }}
          >
            <DialogTitle id="question">{question.title}</DialogTitle>
            <DialogContent>{question.text}</DialogContent>
            <DialogActions>
              <Button
                color="inherit"
                autoFocus
                onClick={() => {
                  question.answer(false);
                }}
              >
                {question.no}
              </Button>
              <Button
                color="error"
                data-testid="yes"
                onClick={() => {
                  question.answer(true);
                }}
              >
                {question.yes}
              </Button>
            </DialogActions>
          </Dialog>
        )}
      </AskContext>
    </TellContext>
  );
}

/** A refusal; it stays until it is put away. */
function Refused({ message, onClose }: { message: Message; onClose: () => void }) {
  return (
    <Alert severity="error" variant="outlined" onClose={onClose} sx={{ bgcolor: "background.paper" }} icon={false}>
      {message.text}
      {message.problem && <Box sx={{ color: "text.secondary", mt: 0.5 }}>{message.problem.next}</Box>}
      {message.problem?.details && (
        <Box component="details" sx={{ color: "text.secondary", mt: 0.5, fontSize: 12 }}>
          <summary>technical details</summary>
          {message.problem.details}
        </Box>
      )}
    </Alert>
  );
}
