import { expect, test } from "vitest";
import type { Output } from "../api/client";
import { frameSeconds, strips, withoutSteps } from "./variants";

type Plan = NonNullable<Output["plan"]>;

const plan = (picture: Record<string, unknown>) =>
  ({ picture: { codec: "h264", steps: [], ...picture } }) as unknown as Plan;
const names = (made: Plan) => strips(made).map(({ name }) => name);

test("a strip tries what the output has", () => {
  const quality = plan({ rate: { mode: "constant_quality", crf: 3 } });
  expect(names(quality)).toContain("Quality (CRF)");
  // Nothing below the least, and the output's own among them.
  expect(strips(quality)[0]?.variants.map(({ label }) => label)).toEqual(["CRF 3", "CRF 6", "CRF 9"]);
  expect(names(plan({ rate: { mode: "by_profile" }, codec: "prores" }))).not.toContain("Effort of the encoder");
  expect(names(plan({ steps: [{ step: "deinterlace" }] }))).toContain("Deinterlacing");
  expect(names(plan({}))).not.toContain("Deinterlacing");
});

test("a mean rate is tried lower and higher, all else as it is", () => {
  const rate = { mode: "average", bits_per_second: 8_000_000, passes: 2 };
  const [strip] = strips(plan({ rate }));
  expect(strip?.variants.map(({ label }) => label)).toEqual(["4 Mb/s", "6 Mb/s", "8 Mb/s", "12 Mb/s", "16 Mb/s"]);
  expect(strip?.variants[0]?.overrides).toEqual({ picture: { rate: { ...rate, bits_per_second: 4_000_000 } } });
});

test("each step that is done can be left out, and no other", () => {
  const space = { primaries: "bt709", transfer: "bt709", matrix: "bt709" };
  const steps = [
    { step: "deinterlace" },
    { step: "crop" },
    { step: "denoise" },
    { step: "resample", from: { space }, to: { space } },
    { step: "pad" },
  ];
  expect(withoutSteps(plan({ steps })).map(({ label }) => label)).toEqual([
    "without deinterlacing",
    "without cropping",
    "without denoise",
  ]);
  const converted = { step: "resample", from: { space }, to: { space: { ...space, matrix: "smpte170m" } } };
  expect(withoutSteps(plan({ steps: [converted, converted] }))).toHaveLength(1);
});

test("frames of a proof are where its measure says, or evenly spread", () => {
  expect(frameSeconds([{ at: 0 }, { at: 41 }], "25", 1)).toBe(0.041);
  expect(frameSeconds([], "25", 50)).toBe(2);
});
