/** All proofs of an output, the newest first. */
import Button from "@mui/material/Button";
import { styled } from "@mui/material/styles";
import type { Proof } from "../api/client";
import { Facet } from "../shared/Facet";
import { MONO } from "../shared/theme";
import { type Count, timecodeText } from "../shared/timecode";
import { fraction, sizeText } from "../shared/words";
import { Heading } from "../sheets/SlipParts";

const Row = styled("div", { shouldForwardProp: (name) => name !== "isShown" })<{ isShown: boolean }>(
  ({ theme: { palette, spacing }, isShown }) => ({
    display: "flex",
    alignItems: "center",
    gap: spacing(1),
    padding: spacing(0.25, 0),
    borderRadius: 8,
    backgroundColor: isShown ? palette.action.selected : undefined,
  }),
);

const Words = styled("button")(({ theme: { palette } }) => ({
  all: "unset",
  flex: 1,
  minWidth: 0,
  cursor: "pointer",
  whiteSpace: "nowrap",
  overflow: "hidden",
  textOverflow: "ellipsis",
  "& time": { fontFamily: MONO, fontSize: 12 },
  "& small": { fontSize: "inherit", color: palette.text.secondary },
  "& em": { fontStyle: "normal", color: palette.error.main },
}));

const Remove = styled(Button)(({ theme: { palette, spacing } }) => ({
  minWidth: 0,
  padding: spacing(0, 0.75),
  color: palette.text.secondary,
}));

interface Props {
  proofs: Proof[];
  shown: string | undefined;
  count: Count;
  onChoose: (proof: Proof) => void;
  onRemove: (proof: Proof) => void;
}

export function ProofList({ proofs, shown, count, onChoose, onRemove }: Props) {
  if (proofs.length === 0) return null;
  return (
    <>
      <Heading>Proofs</Heading>
      {proofs.map((proof) => (
        <Row key={proof.id} data-testid="proof" data-state={proof.state} isShown={proof.id === shown}>
          <Facet state={proof.state} fraction={proof.fraction} size={16} title={proof.state} />
          <Words
            onClick={() => {
              onChoose(proof);
            }}
          >
            <time>{timecodeText(fraction(proof.parts[0]?.from ?? "0"), count)}</time>{" "}
            {proof.parts.length > 1 ? `${String(proof.parts.length)} stretches` : proof.label}
            {proof.made && (
              <small>
                {" "}
                {sizeText(proof.made.size)} · {proof.made.ssim.toFixed(4)}
              </small>
            )}
            {proof.problem && <em> {proof.problem.why}</em>}
          </Words>
          <Remove
            color="inherit"
            onClick={() => {
              onRemove(proof);
            }}
            disabled={proof.state === "running"}
            title="Remove this proof; what it has shown stays in the forecasts"
          >
            Remove
          </Remove>
        </Row>
      ))}
    </>
  );
}
