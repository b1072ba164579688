/** What can be varied in a test strip, and which steps a proof can be made without. */
import type { Output } from "../api/client";
import { fraction } from "../shared/words";
import type { Patch } from "../sheets/overrides";

type Plan = NonNullable<Output["plan"]>;
type Step = NonNullable<Plan["picture"]>["steps"][number];

/** The output with something else set. */
export interface Variant {
  label: string;
  overrides: Patch;
}

/** A setting with the values that a strip tries. */
export interface Strip {
  name: string;
  variants: Variant[];
}

/** So many variants are tried at once. */
export const MOST_VARIANTS = 7;

type PicturePatch = NonNullable<Patch["picture"]>;

function picture(patch: PicturePatch): Patch {
  return { picture: patch };
}

function qualityStrip(plan: Plan): Strip | null {
  const rate = plan.picture?.rate;
  if (rate?.mode === "constant_quality") {
    const values = [-6, -3, 0, 3, 6].map((step) => rate.crf + step).filter((crf) => crf >= 1 && crf <= 51);
    return {
      name: "Quality (CRF)",
      variants: values.map((crf) => ({
        label: `CRF ${String(crf)}`,
        overrides: picture({ rate: { mode: "constant_quality", crf } }),
      })),
    };
  }
  if (rate?.mode === "average" || rate?.mode === "constant") {
    const values = [0.5, 0.75, 1, 1.5, 2]
      .map((factor) => Math.round((rate.bits_per_second * factor) / 1e5) * 1e5)
      .filter((bits) => bits > 0);
    return {
      name: "Bit rate",
      variants: values.map((bits) => ({
        label: `${String(bits / 1e6)} Mb/s`,
        overrides: picture({ rate: { ...rate, bits_per_second: bits } }),
      })),
    };
  }
  return null;
}

const fixed = (name: string, values: [string, PicturePatch][]): Strip => ({
  name,
  variants: values.map(([label, patch]) => ({ label, overrides: picture(patch) })),
});

const CLEANING = fixed("Noise", [
  ["noise left", { cleaning: { denoise: "off" } }],
  ["camera noise", { cleaning: { denoise: "camera" } }],
  ["tape and grain", { cleaning: { denoise: "tape" } }],
  ["night", { cleaning: { denoise: "night" } }],
]);
const BLOCKS = fixed("Coding blocks", [
  ["blocks left", { cleaning: { deblock: "off" } }],
  ["flat parts smoothed", { cleaning: { deblock: "flat_parts" } }],
  ["smoothed everywhere", { cleaning: { deblock: "whole_picture" } }],
]);
const EFFORT = fixed("Effort of the encoder", [
  ["quick", { effort: "quick" }],
  ["balanced", { effort: "balanced" }],
  ["thorough", { effort: "thorough" }],
]);
const SIZE = fixed("Frame size", [
  ["as the source", { size: { rule: "same" } }],
  ["1080 lines", { size: { rule: "height", height: 1080, enlarge: false } }],
  ["720 lines", { size: { rule: "height", height: 720, enlarge: false } }],
  ["540 lines", { size: { rule: "height", height: 540, enlarge: false } }],
]);
const FIELDS = fixed("Deinterlacing", [
  ["fast", { fields: "when_needed", deinterlacing: { degree: "proxy" } }],
  ["along edges, combed frames", { fields: "when_needed", deinterlacing: { degree: "delivery", frames: "combed" } }],
  ["along edges, every frame", { fields: "when_needed", deinterlacing: { degree: "delivery", frames: "all" } }],
  ["a frame for each field", { fields: "when_needed", deinterlacing: { degree: "delivery", per: "field" } }],
]);

/** What a strip can try for an output that is planned so. */
export function strips(plan: Plan): Strip[] {
  const steps = plan.picture?.steps ?? [];
  const quality = qualityStrip(plan);
  const effort = plan.picture && ["h264", "hevc"].includes(plan.picture.codec);
  return [
    ...(quality ? [quality] : []),
    ...(steps.some((step) => step.step === "deinterlace") ? [FIELDS] : []),
    CLEANING,
    BLOCKS,
    ...(effort ? [EFFORT] : []),
    SIZE,
  ];
}

const WITHOUT_CONVERTING: Variant = {
  label: "without colour conversion",
  overrides: picture({ colour: { space: "same", range: "limited" } }),
};

/** Whether luma and chroma get another colour space, and not only another size or other bits. */
function changesColour({ from, to }: Extract<Step, { step: "resample" }>): boolean {
  const isRgb = from.space.matrix === "gbr" || to.space.matrix === "gbr";
  return (
    !isRgb &&
    (from.space.primaries !== to.space.primaries ||
      from.space.transfer !== to.space.transfer ||
      from.space.matrix !== to.space.matrix)
  );
}

/** Steps that can be left out, in words, each with what leaves it out. */
export function withoutSteps(plan: Plan): Variant[] {
  const found: Variant[] = [];
  for (const step of plan.picture?.steps ?? []) {
    switch (step.step) {
      case "film":
        found.push({ label: "without inverse telecine", overrides: picture({ telecine: "never" }) });
        break;
      case "deinterlace":
        found.push({ label: "without deinterlacing", overrides: picture({ fields: "keep" }) });
        break;
      case "crop":
        found.push({ label: "without cropping", overrides: picture({ crop: { rule: "never" } }) });
        break;
      case "denoise":
        found.push({ label: "without denoise", overrides: picture({ cleaning: { denoise: "off" } }) });
        break;
      case "deblock":
        found.push({ label: "without deblocking", overrides: picture({ cleaning: { deblock: "off" } }) });
        break;
      case "adjust":
        found.push({
          label: "without level changes",
          overrides: picture({ adjustment: { brightness: 0, contrast: 100, gamma: 100, saturation: 100 } }),
        });
        break;
      case "grey":
        found.push({ label: "with its colour", overrides: picture({ greyscale: false }) });
        break;
      case "tone":
        found.push({ label: "with its dynamic range", overrides: picture({ colour: { dynamic_range: "keep" } }) });
        break;
      case "look_up":
        found.push({ label: "without LUT", overrides: picture({ colour: { lut: null } }) });
        break;
      case "resample":
        if (changesColour(step) && !found.includes(WITHOUT_CONVERTING)) found.push(WITHOUT_CONVERTING);
        break;
      case "subtitles":
        found.push({ label: "without subtitles", overrides: picture({ overlays: { subtitles: { rule: "never" } } }) });
        break;
      case "burn_in":
        found.push({
          label: "without text",
          overrides: picture({ overlays: { burn_in: { timecode: false, name: false, frame: false } } }),
        });
        break;
      case "watermark":
        found.push({ label: "without the watermark", overrides: picture({ overlays: { watermark: null } }) });
        break;
      case "speed":
      case "turn":
      case "constant_rate":
      case "rearrange":
      case "pad":
        break;
    }
  }
  return found;
}

/** Where frames of a proof are, in seconds from its first. */
export function frameSeconds(frames: { at: number }[], rate: string, frame: number): number {
  return (frames[frame]?.at ?? (frame / fraction(rate)) * 1000) / 1000;
}
