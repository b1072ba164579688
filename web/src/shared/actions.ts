/** Actions by name and key: places say what can be done now, the palette and the keyboard reach it. */
import { createContext, useContext, useEffect, useId } from "react";
import { keyFor, type Keymap } from "./keys";

export interface Action {
  /** What it does, as the palette shows it. */
  name: string;
  /** The key that calls it, as `KeyboardEvent.key`, where it has one. */
  key?: string;
  run: () => void;
  /** Whether it can be done now, or how to find out when somebody asks; yes where it is not said. */
  enabled?: boolean | (() => boolean);
}

function canBeDone({ enabled = true }: Action): boolean {
  return typeof enabled === "boolean" ? enabled : enabled();
}

/** Actions of all places that are open, each under the place's own name. */
export class ActionBook {
  private readonly lists = new Map<string, readonly Action[]>();

  set(owner: string, actions: readonly Action[]): void {
    this.lists.set(owner, actions);
  }

  remove(owner: string): void {
    this.lists.delete(owner);
  }

  /** What can be done now. */
  all(): Action[] {
    return [...this.lists.values()].flat().filter(canBeDone);
  }

  /** The action that a key calls now. Where single keys are switched off, only those call that are no letters. */
  byKey(key: string, keymap: Keymap): Action | undefined {
    if (!keymap.areOn && key.length === 1 && key !== " ") return undefined;
    const called = [...this.lists.values()].flat().filter((action) => keyFor(keymap, action) === key);
    return called.find(canBeDone);
  }
}

/** The actions whose names hold all words that were typed, in any order. */
export function matching(actions: Action[], typed: string): Action[] {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  return actions.filter((action) => words.every((word) => action.name.toLowerCase().includes(word)));
}

export const ActionContext = createContext<ActionBook>(new ActionBook());

/** Says what can be done while the component is shown. */
export function useActions(actions: readonly Action[]): void {
  const book = useContext(ActionContext);
  const owner = useId();
  useEffect(() => {
    book.set(owner, actions);
  });
  useEffect(
    () => () => {
      book.remove(owner);
    },
    [book, owner],
  );
}
