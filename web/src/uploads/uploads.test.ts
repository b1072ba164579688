import { expect, test } from "vitest";
import { chosenFiles } from "./uploads";

const file = (name: string, webkitRelativePath = "") => ({ name, webkitRelativePath }) as File;

test("chosen files keep their folders, and what is hidden stays where it is", () => {
  const chosen = chosenFiles([
    file("clip.mov"),
    file("clip.mov", "card/CLIPS/clip.mov"),
    file(".DS_Store"),
    file("clip.mov", "card/.trash/clip.mov"),
  ] as unknown as FileList);
  expect(chosen.map(({ path }) => path)).toEqual(["clip.mov", "card/CLIPS/clip.mov"]);
});
