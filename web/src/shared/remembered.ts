/** What a dialog was told last, kept in this browser. */
export function remembered<T extends object>(name: string, otherwise: T): T {
  try {
    const stored: unknown = JSON.parse(localStorage.getItem(`beryl.${name}`) ?? "null");
    return typeof stored === "object" && stored !== null ? { ...otherwise, ...(stored as Partial<T>) } : otherwise;
  } catch {
    return otherwise;
  }
}

export function remember(name: string, value: object): void {
  localStorage.setItem(`beryl.${name}`, JSON.stringify(value));
}
