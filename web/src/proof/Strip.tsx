/** A test strip: the same moment in several variants, with what each weighs, how near it comes and how long it takes. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Menu from "@mui/material/Menu";
import MenuItem from "@mui/material/MenuItem";
import { useState } from "react";
import type { Proof } from "../api/client";
import { Facet } from "../shared/Facet";
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

export function Strip({ proofs, chosen, frame, onChoose, onUse }: Props) {
  const [menu, setMenu] = useState<{ at: HTMLElement; proof: Proof } | null>(null);
  const use = (target: Target) => {
    if (menu) onUse(menu.proof, target);
    setMenu(null);
  };
  return (
    <Box
      data-testid="strip"
      sx={{
        flex: "none",
        display: "flex",
        gap: 1,
        px: 2,
        py: 1,
        borderTop: 1,
        borderColor: "divider",
        bgcolor: "background.paper",
        overflowX: "auto",
      }}
    >
      {proofs.map((proof) => (
        <Box
          key={proof.id}
          data-testid="variant"
          data-state={proof.state}
          sx={{
            flex: "1 0 132px",
            maxWidth: 190,
            border: 1,
            borderColor: proof.id === chosen ? "primary.main" : "divider",
            borderRadius: 1,
            overflow: "hidden",
          }}
        >
          <Box
            component="button"
            onClick={() => {
              onChoose(proof);
            }}
            aria-pressed={proof.id === chosen}
            sx={{
              all: "unset",
              cursor: "pointer",
              display: "block",
              width: "100%",
            }}
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
            <Box
              sx={{
                px: 1,
                pt: 0.5,
                fontWeight: 600,
                whiteSpace: "nowrap",
                overflow: "hidden",
                textOverflow: "ellipsis",
              }}
            >
              {proof.label || "as planned"}
            </Box>
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
          </Box>
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
        </Box>
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
    </Box>
  );
}
