/** Keys: how they are named, which ones call which actions, and what somebody has changed about that. */
import { remember, remembered } from "./remembered";

/** What can be changed: whether single keys call actions at all, and which key an action has; "" for none. */
export interface Keymap {
  areOn: boolean;
  own: Record<string, string>;
}

const STORED = "keys";
const USUAL: Keymap = { areOn: true, own: {} };

export function storedKeymap(): Keymap {
  return remembered(STORED, USUAL);
}

export function storeKeymap(keymap: Keymap): void {
  remember(STORED, keymap);
}

/** The key of an action. */
export function keyFor(keymap: Keymap, action: { name: string; key?: string }): string | undefined {
  const own = keymap.own[action.name];
  return own === undefined ? action.key : own === "" ? undefined : own;
}

/** The key that was pressed, by its name: a letter is small without Shift and large with it, whatever Caps Lock says. */
export function pressedKey({ key, shiftKey }: { key: string; shiftKey: boolean }): string {
  if (key.length > 1) return shiftKey ? `Shift+${key}` : key;
  if (key.toLowerCase() === key.toUpperCase()) return key;
  return shiftKey ? key.toUpperCase() : key.toLowerCase();
}

const NAMES: Record<string, string> = {
  " ": "Space",
  ArrowUp: "↑",
  ArrowDown: "↓",
  ArrowLeft: "←",
  ArrowRight: "→",
  Escape: "Esc",
};

/** The name that stands on a key. */
export function keyName(key: string): string {
  if (key.startsWith("Ctrl+")) return `Ctrl + ${keyName(key.slice("Ctrl+".length))}`;
  if (key.startsWith("Shift+")) return `Shift + ${keyName(key.slice("Shift+".length))}`;
  const upper = key.toUpperCase();
  if (key.length > 1 || key === " ") return NAMES[key] ?? key;
  return key === upper && key !== key.toLowerCase() ? `Shift + ${upper}` : upper;
}

/** Whether an element takes a key by itself: what is typed into, chosen from, or pressed. */
export function takesKey(element: Element, key: string): boolean {
  if (element.closest("input, textarea, select, [role=combobox], [role=listbox], [role=menu], [contenteditable=true]"))
    return true;
  const pressable = element.closest(
    "button, a[href], summary, [role=button], [role=tab], [role=switch], [role=checkbox]",
  );
  return pressable !== null && (key === " " || key === "Enter");
}
