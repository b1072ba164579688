/** The size of an element of the page, as it is now. */
import { type RefObject, useLayoutEffect, useRef, useState } from "react";

/** A reference for the element, and its columns and lines. */
export function useRoom(): [RefObject<HTMLDivElement | null>, [number, number]] {
  const area = useRef<HTMLDivElement>(null);
  const [room, setRoom] = useState<[number, number]>([0, 0]);
  useLayoutEffect(() => {
    const element = area.current;
    if (!element) return;
    const watcher = new ResizeObserver(() => {
      setRoom([element.clientWidth, element.clientHeight]);
    });
    watcher.observe(element);
    return () => {
      watcher.disconnect();
    };
  }, []);
  return [area, room];
}
