/** From where a source or a finished file plays in the page. */
import { useQuery } from "@tanstack/react-query";
import { api, type Viewing } from "../api/client";
import { keys } from "../api/live";

/** What has not been read cannot be played yet, and is not asked for. */
export function useViewing(of: "sources" | "runs", id: string, isRead = true): Viewing | undefined {
  return useQuery({ queryKey: keys.viewing(id), queryFn: () => api.viewing(of, id), retry: false, enabled: isRead })
    .data;
}
