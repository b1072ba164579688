/** From where a source or a finished file plays in the page. */
import { useQuery } from "@tanstack/react-query";
import { api, type Viewing } from "../api/client";
import { keys } from "../api/live";

/** What has not been read cannot be played yet, and is not asked for. `sound` is the stream that is to be heard. */
export function useViewing(
  of: "sources" | "runs",
  id: string,
  isRead = true,
  sound: number | null = null,
): Viewing | undefined {
  return useQuery({
    queryKey: [...keys.viewing(id), sound],
    queryFn: () => api.viewing(of, id, sound),
    retry: false,
    enabled: isRead,
  }).data;
}
