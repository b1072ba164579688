/** Storages that something new can be taken from or put into: all but the retired ones. */
import { useQuery } from "@tanstack/react-query";
import { api, type Storage } from "../api/client";
import { keys } from "../api/live";
import { clockText } from "./words";

const inUse = (storages: Storage[]) => storages.filter((storage) => !storage.is_retired);

export function useStorages() {
  return useQuery({ queryKey: keys.storages, queryFn: api.storages, staleTime: 0, select: inUse });
}

/** What a storage's name is followed by where it does not answer: “ (not reachable since 21:40)”. */
export function reachText(storage: Storage): string {
  if (storage.lacks_marker) return "not mounted";
  if (storage.away_since == null) return storage.free == null ? "not reachable" : "";
  return `not reachable since ${clockText(new Date(storage.away_since))}`;
}
