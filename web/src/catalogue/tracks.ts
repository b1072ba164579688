/** What tracks of sound are made of, as people write it: streams and channels counted from 1. */
import type { TrackWish } from "../api/client";

type Source = TrackWish["from"][number];

/** As it is written: `2` is all of stream 2, `1: 1, 2` two channels of stream 1; several follow one another with `+`. */
export function sourcesText(from: Source[]): string {
  return from
    .map(({ stream, channels }) => {
      const numbers = (channels ?? []).map((channel) => String(channel + 1));
      return numbers.length === 0 ? String(stream + 1) : `${String(stream + 1)}: ${numbers.join(", ")}`;
    })
    .join(" + ");
}

/** What was written, or nothing where it says no streams and channels. */
export function sourcesOf(text: string): Source[] | null {
  const number = (word: string) => (/^[1-9]\d{0,3}$/.test(word) ? Number(word) - 1 : null);
  const from: Source[] = [];
  for (const part of text.split("+")) {
    const [first = "", rest, ...more] = part.split(":");
    const stream = number(first.trim());
    const words = rest?.split(/[\s,]+/).filter((word) => word !== "") ?? [];
    const channels = words.map(number);
    const isWhole = rest === undefined;
    if (stream === null || more.length > 0 || (!isWhole && channels.length === 0) || channels.includes(null))
      return null;
    from.push(isWhole ? { stream } : { stream, channels: channels.filter((channel) => channel !== null) });
  }
  return from;
}
