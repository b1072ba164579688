/** The palette (Ctrl+K) that reaches every action by name, the keys (?), and the keyboard itself. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import FormControlLabel from "@mui/material/FormControlLabel";
import ListItemButton from "@mui/material/ListItemButton";
import InputBase from "@mui/material/InputBase";
import Switch from "@mui/material/Switch";
import { type KeyboardEvent, type ReactNode, useEffect, useState } from "react";
import { type Action, ActionBook, ActionContext, matching } from "./actions";
import { Key } from "./Bar";
import { keyFor, type Keymap, keyName, pressedKey, storedKeymap, storeKeymap, takesKey } from "./keys";

/** Keys that are not in any list of actions, since they belong to what they move over. */
const GRID_KEYS: [string, string][] = [
  ["← ↑ → ↓", "move over cells"],
  ["Home, End, Page ↑ ↓", "go to the ends of the row, or a page up or down; with Ctrl to the corners"],
  ["Shift + arrows", "choose several cells"],
  ["Shift + Space, Ctrl + Space", "choose the row, the column"],
  ["Ctrl + click", "choose one cell more or less"],
  ["Ctrl + A", "choose all cells"],
  ["Space", "switch the chosen cells on or off"],
  ["Enter", "open the slip"],
  ["Esc", "close the slip"],
];

export function Commands({ children }: { children: ReactNode }) {
  const [book] = useState(() => new ActionBook());
  const [open, setOpen] = useState<"palette" | "keys" | null>(null);
  useEffect(() => {
    const press = (event: globalThis.KeyboardEvent) => {
      const at = event.target instanceof Element ? event.target : document.body;
      const inDialog = at.closest("[role=dialog]") !== null;
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k" && !inDialog) {
        event.preventDefault();
        setOpen("palette");
        return;
      }
      const key = pressedKey(event);
      if (event.altKey || inDialog || takesKey(at, key)) return;
      if (event.ctrlKey || event.metaKey) {
        // Words that are marked are copied as everywhere.
        if (key === "c" && window.getSelection()?.isCollapsed === false) return;
        const action = book.byKey(`Ctrl+${key}`, storedKeymap());
        if (!action) return;
        action.run();
        event.preventDefault();
        return;
      }
      const keymap = storedKeymap();
      if (key === "?" && keymap.areOn) setOpen("keys");
      else {
        const action = book.byKey(key, keymap);
        if (!action) return;
        action.run();
      }
      event.preventDefault();
    };
    window.addEventListener("keydown", press);
    return () => {
      window.removeEventListener("keydown", press);
    };
  }, [book]);
  const close = () => {
    setOpen(null);
  };
  return (
    <ActionContext value={book}>
      {children}
      {open === "palette" && <Palette actions={book.all()} onClose={close} />}
      {open === "keys" && <Keys actions={book.all()} onClose={close} />}
    </ActionContext>
  );
}

const optionId = (number: number) => `action-${String(number)}`;

/** The key of an action as it is now, where it has one. */
function keyOf(action: Action): ReactNode {
  const key = keyFor(storedKeymap(), action);
  return key ? <Key>{keyName(key)}</Key> : null;
}

function Palette({ actions, onClose }: { actions: Action[]; onClose: () => void }) {
  const [typed, setTyped] = useState("");
  const [place, setPlace] = useState(0);
  const found = matching(actions, typed);
  const run = (action: Action | undefined) => {
    if (!action) return;
    onClose();
    action.run();
  };
  const press = (event: KeyboardEvent) => {
    if (event.key === "ArrowDown") setPlace(Math.min(place + 1, found.length - 1));
    else if (event.key === "ArrowUp") setPlace(Math.max(place - 1, 0));
    else if (event.key === "Enter") run(found[place]);
    else return;
    event.preventDefault();
  };
  return (
    <Dialog
      open
      onClose={onClose}
      fullWidth
      maxWidth="sm"
      aria-label="All actions"
      sx={{ "& .MuiDialog-container": { alignItems: "flex-start" } }}
    >
      <InputBase
        autoFocus
        placeholder="Search actions"
        value={typed}
        onChange={(event) => {
          setTyped(event.target.value);
          setPlace(0);
        }}
        onKeyDown={press}
        inputProps={{
          role: "combobox",
          "aria-label": "Search actions",
          "aria-expanded": true,
          "aria-controls": "actions",
          "aria-activedescendant": found.length > 0 ? optionId(place) : undefined,
          "data-testid": "palette",
        }}
        sx={{ px: 2, py: 1.25, fontSize: 16, borderBottom: 1, borderColor: "divider" }}
      />
      <Box role="listbox" id="actions" aria-label="Actions" sx={{ maxHeight: 380, overflow: "auto", py: 0.5 }}>
        {found.map((action, number) => (
          <ListItemButton
            key={action.name}
            id={optionId(number)}
            role="option"
            aria-selected={number === place}
            selected={number === place}
            tabIndex={-1}
            onClick={() => {
              run(action);
            }}
            sx={{ justifyContent: "space-between", px: 2, py: 0.75 }}
          >
            {action.name}
            {keyOf(action)}
          </ListItemButton>
        ))}
        {found.length === 0 && <Box sx={{ px: 2, py: 1, color: "text.secondary" }}>No matching action.</Box>}
      </Box>
    </Dialog>
  );
}

/** The keys of what can be done now; those of actions can be changed. */
function Keys({ actions, onClose }: { actions: Action[]; onClose: () => void }) {
  const [keymap, setKeymap] = useState(storedKeymap);
  const [waiting, setWaiting] = useState<string | null>(null);
  const change = (next: Keymap) => {
    setKeymap(next);
    storeKeymap(next);
    setWaiting(null);
  };
  /** Takes the next key for the action that waits for one; Esc leaves it as it is. */
  const take = (event: KeyboardEvent) => {
    if (waiting === null || event.key === "Shift" || event.key === "Tab") return;
    event.preventDefault();
    event.stopPropagation();
    if (event.key === "Escape") setWaiting(null);
    else {
      const key = event.key === "Backspace" || event.key === "Delete" ? "" : pressedKey(event);
      change({ ...keymap, own: { ...keymap.own, [waiting]: key } });
    }
  };
  const named = [...new Map(actions.map((action) => [action.name, action])).values()];
  const fixed: [string, string][] = [
    ["Ctrl + K", "reach every action by its name"],
    ["?", "show these keys"],
    ...(document.querySelector("[role=grid]") ? GRID_KEYS : []),
  ];
  return (
    <Dialog open onClose={onClose} aria-label="Keys">
      <Box sx={{ px: 2, pt: 1.5 }}>
        <FormControlLabel
          control={
            <Switch
              size="small"
              checked={keymap.areOn}
              onChange={(_, areOn) => {
                change({ ...keymap, areOn });
              }}
            />
          }
          label="Single keys call actions"
        />
        {Object.keys(keymap.own).length > 0 && (
          <Button
            color="inherit"
            onClick={() => {
              change({ ...keymap, own: {} });
            }}
          >
            Undo all changes
          </Button>
        )}
      </Box>
      <Box component="table" data-testid="keys" sx={{ m: 2, mt: 0.5, "& td": { py: 0.4, pr: 3 } }}>
        <tbody>
          {named.map((action) => {
            const key = keyFor(keymap, action);
            const words = waiting === action.name ? "press a key" : key ? keyName(key) : "none";
            return (
              <tr key={action.name}>
                <td>
                  <Button
                    color="inherit"
                    size="small"
                    sx={key ? {} : { fontWeight: 400, color: "text.secondary" }}
                    aria-label={`${words}: change the key of “${action.name}”`}
                    onKeyDown={waiting === action.name ? take : undefined}
                    onBlur={() => {
                      if (waiting === action.name) setWaiting(null);
                    }}
                    onClick={() => {
                      setWaiting(action.name);
                    }}
                  >
                    {key && waiting !== action.name ? <Key>{words}</Key> : words}
                  </Button>
                </td>
                <td>{action.name}</td>
              </tr>
            );
          })}
          {fixed.map(([key, name]) => (
            <tr key={`${key} ${name}`}>
              <td>
                <Key>{key}</Key>
              </td>
              <td>{name}</td>
            </tr>
          ))}
        </tbody>
      </Box>
    </Dialog>
  );
}
