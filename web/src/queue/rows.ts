/** The rows of the queue, of which those in sight are loaded. */
import { keepPreviousData, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type QueueItem, type QueuePart } from "../api/client";
import { keys } from "../api/live";

/** Rows that are loaded together. */
export const PART = 100;

/** The parts in which the rows from one place up to another are. */
export function partsOf(first: number, last: number): number[] {
  const from = Math.max(0, Math.floor(first / PART));
  return Array.from({ length: Math.max(0, Math.floor(last / PART) - from) + 1 }, (_, number) => (from + number) * PART);
}

const asked = (sheet: string | null, from: number) => ({
  queryKey: keys.queuePart(sheet, from),
  queryFn: () => api.queue(from, PART, sheet),
  staleTime: 0,
});

/** The first part of the queue, which tells how many rows there are. */
export function useQueueHead(sheet: string | null) {
  return useQuery({ ...asked(sheet, 0), placeholderData: keepPreviousData });
}

/** The rows that are in sight, by their places; what is on its way is missing. */
export function useQueueRows(sheet: string | null, first: number, last: number): Map<number, QueueItem> {
  const parts = partsOf(first, last);
  return useQueries({
    queries: parts.map((from) => asked(sheet, from)),
    combine: (results) => {
      const rows = new Map<number, QueueItem>();
      results.forEach((result, number) => {
        result.data?.items.forEach((item, place) => rows.set((parts[number] ?? 0) + place, item));
      });
      return rows;
    },
  });
}

/** Finds rows by their place, asking the server for those that are not loaded, and places of runs among those that are. */
export function useRowPlaces(sheet: string | null): {
  rowAt: (place: number) => Promise<QueueItem | undefined>;
  placeOf: (run: string) => number;
} {
  const client = useQueryClient();
  return {
    rowAt: async (place) => {
      const from = Math.floor(place / PART) * PART;
      const part = await client.query({ ...asked(sheet, from), staleTime: "static" });
      return part.items[place - from];
    },
    placeOf: (run) => {
      for (const [key, part] of client.getQueriesData<QueuePart>({ queryKey: keys.queueRows })) {
        const row = part?.items.findIndex((item) => item.run.id === run) ?? -1;
        if (row >= 0 && key[2] === sheet) return Number(key[3]) + row;
      }
      return -1;
    },
  };
}
