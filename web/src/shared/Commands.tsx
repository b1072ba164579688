/** The palette (Ctrl+K) that reaches every action by name, the keys (?), and the keyboard itself. */
import Box from "@mui/material/Box";
import Dialog from "@mui/material/Dialog";
import InputBase from "@mui/material/InputBase";
import { type KeyboardEvent, type ReactNode, useEffect, useState } from "react";
import { type Action, ActionBook, ActionContext, matching } from "./actions";
import { Key } from "./Bar";

/** Keys that are not in any list of actions, since they belong to what they move over. */
const GRID_KEYS: [string, string][] = [
  ["← ↑ → ↓", "move over cells"],
  ["Shift + arrows", "choose several cells"],
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
      const typing = at.closest("input, textarea, select, [role=combobox], [role=listbox], [role=menu]");
      if (event.ctrlKey || event.metaKey || event.altKey || typing || inDialog) return;
      if (event.key === "?") setOpen("keys");
      else {
        const action = book.byKey(event.key);
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
    <Dialog open onClose={onClose} fullWidth maxWidth="sm" aria-label="All actions" sx={{ "& .MuiDialog-container": { alignItems: "flex-start" } }}>
      <InputBase
        autoFocus
        placeholder="What shall be done?"
        value={typed}
        onChange={(event) => { setTyped(event.target.value); setPlace(0); }}
        onKeyDown={press}
        inputProps={{ "aria-label": "What shall be done?", "data-testid": "palette" }}
        sx={{ px: 2, py: 1.25, fontSize: 16, borderBottom: 1, borderColor: "divider" }}
      />
      <Box role="listbox" aria-label="Actions" sx={{ maxHeight: 380, overflow: "auto", py: 0.5 }}>
        {found.map((action, number) => (
          <Box key={action.name} role="option" aria-selected={number === place} onClick={() => { run(action); }} sx={{ display: "flex", justifyContent: "space-between", px: 2, py: 0.75, cursor: "pointer", bgcolor: number === place ? "action.selected" : undefined, "&:hover": { bgcolor: "action.hover" } }}>
            {action.name}
            {action.key && <Key>{keyName(action.key)}</Key>}
          </Box>
        ))}
        {found.length === 0 && <Box sx={{ px: 2, py: 1, color: "text.secondary" }}>No action here has these words in its name.</Box>}
      </Box>
    </Dialog>
  );
}

function keyName(key: string): string {
  if (key.length > 1) return key;
  const upper = key.toUpperCase();
  return key === upper && key !== key.toLowerCase() ? `Shift + ${upper}` : upper;
}

function Keys({ actions, onClose }: { actions: Action[]; onClose: () => void }) {
  const rows: [string, string][] = [
    ...actions.flatMap((action): [string, string][] => (action.key ? [[keyName(action.key), action.name]] : [])),
    ["Ctrl + K", "reach every action by its name"],
    ["?", "show these keys"],
    ...(document.querySelector("[role=grid]") ? GRID_KEYS : []),
  ];
  return (
    <Dialog open onClose={onClose} aria-label="Keys">
      <Box component="table" data-testid="keys" sx={{ m: 2, "& td": { py: 0.4, pr: 3 } }}>
        <tbody>
          {rows.map(([key, name]) => (
            <tr key={`${key} ${name}`}>
              <td><Key>{key}</Key></td>
              <td>{name}</td>
            </tr>
          ))}
        </tbody>
      </Box>
    </Dialog>
  );
}
