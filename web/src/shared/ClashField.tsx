/** What happens when the name of an output is taken. */
import type { Deliverable } from "../api/client";
import { Choice } from "./Choice";

type Clash = Deliverable["clash"];

const RULES: readonly { value: Clash; words: string }[] = [
  { value: "number", words: "add a number" },
  { value: "skip", words: "skip" },
  { value: "replace", words: "replace" },
];

export function ClashField({ clash, onChange }: { clash: Clash; onChange: (clash: Clash) => void }) {
  return <Choice label="If the file exists" value={clash} options={RULES} onChange={onChange} />;
}
