/** The catalogue of settings, and the values that a patch sets. */
import { useQuery } from "@tanstack/react-query";
import {
  api,
  type Kind,
  type Limits,
  type Patch,
  type Preset,
  type Section,
  type Setting,
  type Token,
} from "../api/client";
import { keys } from "../api/live";
import { patchAfter, patchWithout } from "../sheets/overrides";

/** All sections; they do not change while a page is open. */
export function useCatalogue() {
  const { data = [] } = useQuery({ queryKey: keys.catalogue, queryFn: api.catalogue, staleTime: Infinity });
  return data;
}

/** The tokens that name patterns may hold. */
export function tokensOf(catalogue: Section[]): Token[] {
  const settings = catalogue.flatMap((section) => section.settings);
  return settings.flatMap(({ kind }) => (kind.kind === "pattern" ? kind.tokens : []));
}

/** “<name> <preset>”, for the line below a pattern. */
export function tokenWords(tokens: Token[]): string {
  return `Tokens: ${tokens.map(({ word }) => `<${word}>`).join(" ")}`;
}

/** What a pattern makes of an invented source; `own` are words that are known better than the examples. */
export function patternExample(pattern: string, tokens: Token[], own: Record<string, string | undefined>): string {
  return pattern.replace(
    /<(\w+)>/g,
    (all, word: string) => own[word] ?? tokens.find((token) => token.word === word)?.example ?? all,
  );
}

type Fields = Record<string, unknown>;

function fieldsOf(value: unknown): Fields | null {
  return typeof value === "object" && value !== null && !Array.isArray(value) ? (value as Fields) : null;
}

/** The value that a patch sets at a place; nothing where it sets none. */
export function valueAt(patch: Patch | Preset, place: string): unknown {
  return place.split(".").reduce<unknown>((value, name) => fieldsOf(value)?.[name], patch);
}

function at(place: string, value: unknown): Patch {
  return place.split(".").reduceRight<unknown>((inner, name) => ({ [name]: inner }), value) as Patch;
}

/** The patch with a value at a place, or with none there. */
export function withValue(patch: Patch, place: string, value: unknown): Patch {
  const others = patchWithout(patch, at(place, null));
  return value === undefined ? others : patchAfter(others, at(place, value));
}

/** A fraction as a number. */
export function numberOf(text: string): number {
  const [above = "", below = "1"] = text.split("/");
  return Number(above) / Number(below);
}

const UNITS: Record<string, number> = { "": 1, k: 1e3, kb: 1e3, m: 1e6, mb: 1e6, g: 1e9, gb: 1e9 };

/** Bits a second of `8 Mb/s`, `800 kb/s`, `8M` or a number of bits. */
export function bitsOf(text: string): number {
  const found = /^([\d.]+)\s*([a-z]*)/.exec(
    text
      .trim()
      .toLowerCase()
      .replace(",", ".")
      .replace(/\/s$|ps$|bit$/g, ""),
  );
  return Number(found?.[1]) * (UNITS[found?.[2] ?? ""] ?? NaN);
}

export type Figure = Extract<Kind, { kind: "number" | "fraction" | "bit_rate" }>;

/** Values that are often taken, from the smallest. */
export function sortedOffers(kind: Figure) {
  return (kind.offers ?? []).toSorted((one, other) => numberOf(one.value) - numberOf(other.value));
}

/** What was typed as a value, or why it cannot be had. */
export function parsed(kind: Figure, text: string): { value: unknown } | { fault: string } {
  const offer = kind.offers?.find((known) => known.words === text);
  const written = offer?.value ?? text.trim().replace(kind.unit ? new RegExp(`\\s*${kind.unit}$`, "i") : /$/, "");
  const number = kind.kind === "bit_rate" ? bitsOf(written) : numberOf(written.replace(",", "."));
  const least = kind.least == null ? -Infinity : numberOf(kind.least);
  const most = kind.most == null ? Infinity : numberOf(kind.most);
  if (written === "" || Number.isNaN(number) || number < least || number > most) return { fault: limitsWords(kind) };
  return { value: kind.kind === "fraction" ? written.replace(",", ".") : Math.round(number) };
}

/** A value as it is shown. */
export function shown(kind: Figure, value: unknown): string {
  const offer = kind.offers?.find((known) => known.value === String(value));
  if (offer) return offer.words;
  if (kind.kind === "bit_rate" && typeof value === "number")
    return value % 1e6 === 0 ? `${String(value / 1e6)} Mb/s` : `${String(value / 1e3)} kb/s`;
  return kind.unit ? `${String(value)} ${kind.unit}` : String(value);
}

export function limitsWords({ least, most, unit, kind }: Limits & { kind: Figure["kind"] }): string {
  const end = (value: string) => (kind === "bit_rate" ? shown({ kind, unit: "" }, Number(value)) : value);
  const words =
    least != null && most != null
      ? `${end(least)} to ${end(most)}`
      : most != null
        ? `at most ${end(most)}`
        : "a number";
  return unit && kind !== "bit_rate" ? `${words} ${unit}` : words;
}

/** A value with which a form of a rule can begin. */
function first(setting: Setting, language: string): unknown {
  const { kind } = setting;
  switch (kind.kind) {
    case "switch":
      return false;
    case "choice":
      return kind.of[0]?.value;
    case "number":
    case "bit_rate":
      return Number(kind.offers?.[0]?.value ?? kind.least ?? 0);
    case "fraction":
      return kind.offers?.[0]?.value ?? kind.least ?? "1";
    case "language":
      return language;
    case "text":
    case "pattern":
    case "file":
      return "";
    case "parts":
    case "tracks":
      return [];
    case "rule":
      return formOf(kind, kind.forms[0]?.value ?? "", language);
  }
}

/** A form of a rule with what it needs; `language` is the one that the source has. */
export function formOf(
  kind: Extract<Kind, { kind: "rule" }>,
  form: string,
  language: string,
  keep: unknown = null,
): Fields {
  const settings = kind.forms.find((known) => known.value === form)?.settings ?? [];
  const before = fieldsOf(keep) ?? {};
  const fields = settings
    .filter((own) => !own.is_optional)
    .map((own) => [own.place, before[own.place] ?? first(own, language)] as const);
  return { [kind.tag]: form, ...Object.fromEntries(fields) };
}
