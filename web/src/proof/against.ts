/** What a proof is compared with: its source, or another output of the same moment. */
import { useQueries } from "@tanstack/react-query";
import { useMemo } from "react";
import { api, type CellKey, type CellProofs, type Proof, type Sheet } from "../api/client";
import { keys } from "../api/live";
import { fraction } from "../shared/words";

/** Another output of the source, in one of its variants. It stays chosen when another moment is looked at. */
export interface Rival {
  deliverable: string;
  label: string;
}

/** A rival as it can be chosen; without a proof where the moment has not been proved in it, with one that failed where all have. */
export interface Choice extends Rival {
  words: string;
  proof: Proof | null;
}

/** Whether choosing it has to make a proof first. */
export function isToProve({ proof }: Choice): boolean {
  return proof === null || proof.state === "failed";
}

export function isSame(one: Rival, other: Rival): boolean {
  return one.deliverable === other.deliverable && one.label === other.label;
}

/** Whether two proofs show the same of their source. */
function showSame(one: Proof, other: Proof): boolean {
  return (
    one.parts.length === other.parts.length &&
    one.parts.every((part, place) => {
      const mate = other.parts[place];
      return (
        mate !== undefined && fraction(part.from) === fraction(mate.from) && fraction(part.to) === fraction(mate.to)
      );
    })
  );
}

/** Proofs of all outputs of a source by their column; newest first, as the server gives them. */
export type ProofsOfSource = { deliverable: string; name: string; proofs: Proof[] }[];

/** What the shown proof can be compared with, in the order of the columns: each variant once, by its newest proof. */
export function choicesFor(shown: Proof, own: string, columns: ProofsOfSource): Choice[] {
  return columns.flatMap(({ deliverable, name, proofs }) => {
    const choices: Choice[] = [];
    const words = (label: string) => (label === "" ? name : `${name}, ${label}`);
    // One that failed stands for itself only where there is no better one.
    const failed = (proof: Proof) => Number(proof.state === "failed");
    for (const proof of proofs.toSorted((one, next) => failed(one) - failed(next))) {
      const choice = { deliverable, label: proof.label, words: words(proof.label), proof };
      const isUsable = proof.id !== shown.id && showSame(proof, shown);
      const isOwn = deliverable === own && proof.label === shown.label;
      if (isUsable && !isOwn && !choices.some((known) => isSame(known, choice))) choices.push(choice);
    }
    const plain = { deliverable, label: "", words: words(""), proof: null };
    const isMissing = !choices.some((known) => isSame(known, plain));
    return isMissing && !(deliverable === own && shown.label === "") ? [...choices, plain] : choices;
  });
}

/** The same, of a sheet that is open. */
export function useChoices(sheet: Sheet, cell: CellKey, shown: Proof | undefined): Choice[] {
  const answers = useQueries({
    queries: sheet.deliverables.map(({ id }) => ({
      queryKey: keys.proofs(cell.source, id),
      queryFn: () => api.proofs({ source: cell.source, deliverable: id }),
      enabled: shown !== undefined,
    })),
    combine: (all) => all.map(({ data }): CellProofs | undefined => data),
  });
  return useMemo(() => {
    if (!shown) return [];
    const columns = sheet.deliverables.map(({ id, preset }, place) => ({
      deliverable: id,
      name: preset.name,
      proofs: answers[place]?.proofs ?? [],
    }));
    // A column that has no picture, or cannot be made, has nothing to look at.
    const canBe = columns.filter((_, place) => answers[place]?.has_picture === true);
    return choicesFor(shown, cell.deliverable, canBe);
  }, [answers, shown, sheet.deliverables, cell.deliverable]);
}
