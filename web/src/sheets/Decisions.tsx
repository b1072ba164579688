/** What is done, setting by setting, and why. That the preset asks for it is said once. */
import { styled } from "@mui/material/styles";
import type { Output } from "../api/client";
import { Heading } from "./SlipParts";

type Decision = NonNullable<Output["plan"]>["decisions"][number];

const SUBJECTS: Record<string, string> = { frame_rate: "Frame rate" };

function subject(word: string): string {
  return SUBJECTS[word] ?? word.charAt(0).toUpperCase() + word.slice(1);
}

/** The reason that most decisions have. */
const ASKED_FOR = "the preset asks for it";

/** The reason where it says more than that the preset asks for it. */
export function ownReason({ because }: Pick<Decision, "because">): string | null {
  return because === ASKED_FOR ? null : because;
}

const Line = styled("p")(({ theme: { palette, spacing } }) => ({
  margin: spacing(0, 0, 0.9),
  "& b": { fontWeight: 600 },
  "& em": { fontStyle: "normal", color: palette.primary.main },
  "& small": { fontSize: "inherit", color: palette.text.secondary },
}));

export function Decisions({ decisions }: { decisions: Decision[] }) {
  const isSaid = decisions.every((decision) => ownReason(decision) !== null);
  return (
    <>
      <Heading>Plan and reasons{isSaid ? "" : " · from the preset where none is given"}</Heading>
      {decisions.map((decision, place) => {
        const reason = ownReason(decision);
        return (
          <Line key={place}>
            <b>{subject(decision.subject)}</b>
            {decision.origin === "editor" && <em> overridden</em>}: {decision.what}
            {reason === null ? "." : <small>, because {reason}.</small>}
          </Line>
        );
      })}
    </>
  );
}
