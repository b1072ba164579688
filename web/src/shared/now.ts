/** The present moment, renewed every few seconds. */
import { useEffect, useState } from "react";

const EVERY = 2000;

export function useNow(): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const timer = setInterval(() => {
      setNow(Date.now());
    }, EVERY);
    return () => {
      clearInterval(timer);
    };
  }, []);
  return now;
}
