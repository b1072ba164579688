/** Stills of the server, asked for again where one does not come. */

/** Milliseconds until it is asked for again: an engine that has ended is started anew for the next request. */
const PAUSES = [300, 1000, 3000];

/**
 * Tells when the picture at an address is loaded, or that it will not be: it is asked for again as long as it `isAwaited`.
 * Answers how to give up waiting.
 */
export function whenLoaded(
  address: string,
  settle: (isLoaded: boolean) => void,
  isAwaited: () => boolean = () => true,
): () => void {
  let timer: ReturnType<typeof setTimeout> | undefined;
  let isWanted = true;
  const ask = (tries: number) => {
    const image = new Image();
    image.onload = () => {
      if (isWanted) settle(true);
    };
    image.onerror = () => {
      if (!isWanted) return;
      const pause = PAUSES[tries];
      if (pause === undefined || !isAwaited()) settle(false);
      else
        timer = setTimeout(() => {
          ask(tries + 1);
        }, pause);
    };
    image.src = address;
  };
  ask(0);
  return () => {
    isWanted = false;
    clearTimeout(timer);
  };
}
