/** Chooses what a proof is held against. */
import MenuItem from "@mui/material/MenuItem";
import { styled } from "@mui/material/styles";
import TextField from "@mui/material/TextField";
import type { Proof } from "../api/client";
import { Facet } from "../shared/Facet";
import { type Choice, isSame, isToProve, type Rival } from "./against";

const Row = styled("div")(({ theme }) => ({
  display: "flex",
  alignItems: "center",
  gap: theme.spacing(1),
  marginTop: theme.spacing(2),
}));

interface Props {
  choices: Choice[];
  rival: Rival | null;
  /** The other proof, while it cannot be looked at: being made, or failed. */
  making: Proof | null;
  onChoose: (choice: Choice | null) => void;
}

const SOURCE = -1;

export function Against({ choices, rival, making, onChoose }: Props) {
  const chosen = rival ? choices.findIndex((choice) => isSame(choice, rival)) : SOURCE;
  return (
    <Row data-testid="against">
      <TextField
        select
        fullWidth
        size="small"
        label="Compared with"
        error={making?.state === "failed"}
        helperText={making?.problem?.why}
        value={chosen}
        onChange={(event) => {
          onChoose(choices[Number(event.target.value)] ?? null);
        }}
      >
        <MenuItem value={SOURCE}>source</MenuItem>
        {choices.map((choice, place) => (
          <MenuItem key={choice.words} value={place}>
            {choice.words}
            {isToProve(choice) && " (make a proof)"}
          </MenuItem>
        ))}
      </TextField>
      {making && <Facet state={making.state} fraction={making.fraction} size={24} title={making.state} />}
    </Row>
  );
}
