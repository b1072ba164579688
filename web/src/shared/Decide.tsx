/** The decision about a withheld file. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../api/client";

/** A file that is not as planned waits for a decision: it is released, for a reason that is kept, or discarded. */
export function Decide({ run, where }: { run: string; where?: string }) {
  const [because, setBecause] = useState("");
  const [isAsked, setAsked] = useState(false);
  const decide = useMutation({ mutationFn: (call: () => Promise<unknown>) => call() });
  const discard = () => {
    decide.mutate(() => api.discard(run));
  };
  return (
    <Box sx={{ mb: 1.5 }}>
      <Box sx={{ mb: 1 }}>The file was kept under a name of its own and waits for your decision. {where}</Box>
      <TextField
        label="Reason for releasing it"
        size="small"
        fullWidth
        multiline
        value={because}
        onChange={(event) => {
          setBecause(event.target.value);
        }}
      />
      <Box sx={{ display: "flex", gap: 1, mt: 1 }}>
        <Button
          variant="contained"
          disabled={because.trim() === "" || decide.isPending}
          onClick={() => {
            decide.mutate(() => api.release(run, because));
          }}
        >
          Release
        </Button>
        {isAsked ? (
          <>
            <Button color="error" disabled={decide.isPending} onClick={discard}>
              Discard for good
            </Button>
            <Button
              color="inherit"
              onClick={() => {
                setAsked(false);
              }}
            >
              Keep it
            </Button>
          </>
        ) : (
          <Button
            color="inherit"
            disabled={decide.isPending}
            onClick={() => {
              setAsked(true);
            }}
          >
            Discard the file …
          </Button>
        )}
      </Box>
      {decide.error && (
        <Box role="alert" sx={{ color: "error.main", mt: 1 }}>
          {decide.error.message}
        </Box>
      )}
    </Box>
  );
}
