/** The streams of sound of a source, as they are chosen to be heard. */
import type { Reading } from "../api/client";

export interface HeardStream {
  /** Its place in the file. */
  value: string;
  words: string;
}

/** “1 · eng · stereo · Dialogue”, with what is known of each. */
export function soundStreams(reading: Reading | null | undefined): HeardStream[] {
  const sounds = (reading?.streams ?? []).flatMap(({ index, content, language, title }) =>
    content.kind === "sound" ? [{ index, layout: content.layout, language, title }] : [],
  );
  return sounds.map(({ index, layout, language, title }, place) => ({
    value: String(index),
    words: [String(place + 1), language, layout, title].filter(Boolean).join(" · "),
  }));
}
