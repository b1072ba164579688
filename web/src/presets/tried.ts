/** What a preset that is being written comes to: what is wrong with it, and what it would make of a source. */
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, type Preset, type Tried } from "../api/client";
import { keys } from "../api/live";
import { sizeText } from "../shared/words";

/** How long somebody has to rest before the server is asked, in milliseconds. */
const REST = 250;

/** Sources are offered of the newest sheet, and no more than fit a list. */
const MOST_SOURCES = 50;

/** Whether a fault at one place is about the setting at another: at it, within it, or at what holds it. */
export function isWithin(fault: string, place: string): boolean {
  return fault === place || fault.startsWith(`${place}.`) || (fault !== "" && place.startsWith(`${fault}.`));
}

/** “≈ 120 MB”, or why nothing comes of it. */
export function triedWords(tried: Tried | undefined, isOfSource: boolean): string {
  if (!tried) return "";
  const elsewhere = tried.faults.find((fault) => fault.field === "");
  if (elsewhere) return elsewhere.words;
  if (tried.faults.length > 0)
    return tried.faults.length === 1 ? "1 setting cannot be" : `${String(tried.faults.length)} settings cannot be`;
  if (tried.refusal != null) return tried.refusal;
  if (tried.forecast) return `≈ ${sizeText(tried.forecast.size)}`;
  if (isOfSource) return "";
  return tried.bytes_per_minute == null ? "choose a source" : `≈ ${sizeText(tried.bytes_per_minute)}`;
}

/** What the server says of the preset as it stands. */
export function useTried(preset: Preset, source: string | null): Tried | undefined {
  const text = JSON.stringify(preset);
  const [rested, setRested] = useState(text);
  useEffect(() => {
    const timer = setTimeout(() => {
      setRested(text);
    }, REST);
    return () => {
      clearTimeout(timer);
    };
  }, [text]);
  return useQuery({
    queryKey: ["tried", rested, source],
    queryFn: () => api.tryPreset(JSON.parse(rested) as Preset, source),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    gcTime: 0,
  }).data;
}

/** The sources of the newest sheet that have been read, for choosing one. */
export function useNewestSources(): { value: string; words: string }[] {
  const { data: sheets = [] } = useQuery({ queryKey: keys.sheets, queryFn: api.sheets });
  const newest = sheets.find((sheet) => sheet.sources > 0)?.id;
  const { data: sheet } = useQuery({
    queryKey: keys.sheet(newest ?? ""),
    queryFn: () => api.sheet(newest ?? ""),
    enabled: newest !== undefined,
  });
  const read = (sheet?.sources ?? []).filter(({ summary }) => summary != null);
  return read.slice(0, MOST_SOURCES).map(({ id, name }) => ({ value: id, words: name }));
}
