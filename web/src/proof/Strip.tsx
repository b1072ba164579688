/** A test strip: the same moment in several variants, with what each weighs, how near it comes and how long it takes. */
import { styled } from "@mui/material/styles";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Menu from "@mui/material/Menu";
import MenuItem from "@mui/material/MenuItem";
import { useState } from "react";
import type { Proof } from "../api/client";
import { Facet } from "../shared/Facet";
import { clipped } from "../shared/theme";
import { sizeText, spanText } from "../shared/words";

/** Where a variant that is used is written to. */
export type Target = "output" | "column" | "preset";

interface Props {
  proofs: Proof[];
  chosen: string;
  frame: number;
  onChoose: (proof: Proof) => void;
  onUse: (proof: Proof, target: Target) => void;
}

const Row = styled("div")(({ theme: { palette, spacing } }) => ({
  flex: "none",
  display: "flex",
  gap: spacing(1),
  padding: spacing(1, 2),
  borderTop: `1px solid ${palette.divider}`,
  backgroundColor: palette.background.paper,
  overflowX: "auto",
}));

const Variant = styled("div", { shouldForwardProp: (prop) => prop !== "isChosen" })<{ isChosen: boolean }>(
  ({ theme: { palette }, isChosen }) => ({
    flex: "1 0 132px",
    maxWidth: 190,
    border: `1px solid ${isChosen ? palette.primary.main : palette.divider}`,
    borderRadius: 8,
    overflow: "hidden",
  }),
);

const Choose = styled("button")({
  all: "unset",
  cursor: "pointer",
  display: "block",
  width: "100%",
});

const Name = styled("div")(({ theme: { spacing } }) => ({
  padding: spacing(0.5, 1, 0),
  fontWeight: 600,
  ...clipped,
}));

export function Strip({ proofs, chosen, frame, onChoose, onUse }: Props) {
  const [menu, setMenu] = useState<{ at: HTMLElement; proof: Proof } | null>(null);
  const use = (target: Target) => {
    if (menu) onUse(menu.proof, target);
    setMenu(null);
  };
  return (
    <Row data-testid="strip">
      {proofs.map((proof) => (
        <Variant key={proof.id} data-testid="variant" data-state={proof.state} isChosen={proof.id === chosen}>
          <Choose
            onClick={() => {
              onChoose(proof);
            }}
            aria-pressed={proof.id === chosen}
          >
            <Box sx={{ height: 78, bgcolor: "#000", display: "grid", placeItems: "center" }}>
              {proof.state === "done" && proof.made ? (
                <Box
                  component="img"
                  alt=""
                  src={`/api/proofs/${proof.id}/still?frame=${String(Math.min(frame, proof.made.frames - 1))}&side=made`}
                  sx={{ width: "100%", height: 78, objectFit: "cover" }}
                />
              ) : (
                <Facet state={proof.state} fraction={proof.fraction} size={28} title={proof.state} />
              )}
            </Box>
            <Name>{proof.label || "as planned"}</Name>
            <Box sx={{ px: 1, fontSize: 12, color: "text.secondary" }}>
              {proof.problem && proof.problem.why}
              {proof.made && proof.whole && (
                <>
                  <Box sx={{ color: "text.primary" }}>{sizeText(proof.whole.size)} in all</Box>
                  <Box>
                    {(proof.made.rate / 1e6).toFixed(proof.made.rate < 1e7 ? 2 : 1)} Mb/s · SSIM{" "}
                    {proof.made.ssim.toFixed(4)}
                  </Box>
                  <Box>{proof.whole.seconds == null ? "" : `about ${spanText(proof.whole.seconds)} to make`}</Box>
                </>
              )}
            </Box>
          </Choose>
          {proof.state === "done" && (
            <Button
              sx={{ width: "100%" }}
              onClick={(event) => {
                setMenu({ at: event.currentTarget, proof });
              }}
            >
              Use this one
            </Button>
          )}
        </Variant>
      ))}
      <Menu
        open={menu !== null}
        anchorEl={menu?.at}
        onClose={() => {
          setMenu(null);
        }}
      >
        <MenuItem
          onClick={() => {
            use("output");
          }}
        >
          for this output alone
        </MenuItem>
        <MenuItem
          onClick={() => {
            use("column");
          }}
        >
          for the whole column
        </MenuItem>
        <MenuItem
          onClick={() => {
            use("preset");
          }}
        >
          as a preset of its own
        </MenuItem>
      </Menu>
    </Row>
  );
}
