/** Stills of a source, of which only the newest that is wanted counts. */
import { useEffect, useRef, useState } from "react";
import { whenLoaded } from "../shared/stills";

/** The address of a still: at a moment, so many columns wide, with a look where there is one, and as `more` says. */
export function stillOf(
  source: string,
  at: string,
  width: number,
  look: unknown,
  more: Record<string, string>,
): string {
  const query = new URLSearchParams({ at, width: String(width), ...more });
  if (look != null) query.set("look", JSON.stringify(look));
  return `/api/sources/${source}/still?${query.toString()}`;
}

/** The address of the newest still that is loaded; while one is on its way, no other is asked for. */
export function useNewest(wanted: string): string | null {
  const [shown, setShown] = useState<string | null>(null);
  const target = useRef(wanted);
  const loading = useRef(false);
  const ended = useRef(false);
  useEffect(() => {
    ended.current = false;
    return () => {
      ended.current = true;
    };
  }, []);
  useEffect(() => {
    target.current = wanted;
    const load = () => {
      const address = target.current;
      loading.current = true;
      whenLoaded(
        address,
        (isLoaded) => {
          loading.current = false;
          if (ended.current) return;
          if (isLoaded) setShown(address);
          if (target.current !== address) load();
        },
        () => !ended.current && target.current === address,
      );
    };
    if (!loading.current) load();
  }, [wanted]);
  return shown;
}
