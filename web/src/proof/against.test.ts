import { expect, test } from "vitest";
import type { Proof } from "../api/client";
import { choicesFor, isToProve } from "./against";

const parts = [{ from: "3/1", to: "6/1" }];

function proof(id: string, more: Partial<Proof> = {}): Proof {
  return { id, label: "", parts, state: "done", ...more } as Proof;
}

test("a proof is compared with others of the same moment, each variant once, and with columns that are still to be proved", () => {
  const shown = proof("a1");
  const columns = [
    {
      deliverable: "a",
      name: "Web",
      proofs: [shown, proof("a2", { label: "CRF 18" }), proof("a3", { label: "CRF 18" }), proof("a0")],
    },
    { deliverable: "b", name: "Review", proofs: [proof("b1", { parts: [{ from: "6/2", to: "6" }] }), proof("b2")] },
    { deliverable: "c", name: "Archive", proofs: [proof("c1", { parts: [{ from: "9", to: "12" }] })] },
    { deliverable: "d", name: "Edit", proofs: [proof("d1", { state: "failed" }), proof("d2", { state: "running" })] },
  ];
  const told = choicesFor(shown, "a", columns).map(({ words, proof }) => [words, proof?.id ?? null]);
  expect(told).toEqual([
    ["Web, CRF 18", "a2"],
    ["Review", "b1"],
    ["Archive", null],
    ["Edit", "d2"],
  ]);
});

test("a proof that failed is told as such, and chosen again it is made again", () => {
  const shown = proof("a1");
  const columns = [{ deliverable: "b", name: "Review", proofs: [proof("b1", { state: "failed" })] }];
  const [choice] = choicesFor(shown, "a", columns);
  expect(choice?.proof?.id).toBe("b1");
  expect(choice && isToProve(choice)).toBe(true);
});

test("a variant can be held against its own output as planned", () => {
  const shown = proof("a2", { label: "CRF 18" });
  const columns = [{ deliverable: "a", name: "Web", proofs: [shown] }];
  expect(choicesFor(shown, "a", columns)).toEqual([{ deliverable: "a", label: "", words: "Web", proof: null }]);
});
