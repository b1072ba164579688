/** Whether the server answers: told by its stream of events, shown by the page. */
let there = true;
const listeners = new Set<() => void>();

export const connection = {
  isThere: () => there,
  set: (now: boolean) => {
    if (now === there) return;
    there = now;
    for (const listener of listeners) listener();
  },
  subscribe: (listener: () => void) => {
    listeners.add(listener);
    return () => {
      listeners.delete(listener);
    };
  },
};
