/** The head of a sheet: its name, what can be done with it as a whole, and what can be added. */
import Button from "@mui/material/Button";
import Menu from "@mui/material/Menu";
import MenuItem from "@mui/material/MenuItem";
import { memo, useState } from "react";
import { Bar, Key } from "../shared/Bar";
import { plural } from "../shared/words";

interface Props {
  name: string;
  /** How many it has. */
  sources: number;
  deliverables: number;
  onOpen: (what: "name" | "copy" | "sources" | "deliverable") => void;
  onRemove: () => Promise<void>;
}

export const SheetBar = memo(function SheetBar({ name, sources, deliverables, onOpen, onRemove }: Props) {
  return (
    <Bar title={name} detail={`${plural(sources, "source")} × ${plural(deliverables, "deliverable")}`}>
      <SheetMenu
        onRename={() => {
          onOpen("name");
        }}
        onDuplicate={() => {
          onOpen("copy");
        }}
        onRemove={() => void onRemove()}
      />
      <Button
        color="inherit"
        onClick={() => {
          onOpen("sources");
        }}
        data-testid="add-sources"
        title="Add sources (S), or drop files on the page"
      >
        Add sources<Key>S</Key>
      </Button>
      <Button
        color="inherit"
        onClick={() => {
          onOpen("deliverable");
        }}
        data-testid="add-deliverable"
        title="Add a deliverable (D)"
      >
        Add a deliverable<Key>D</Key>
      </Button>
    </Bar>
  );
});

interface MenuProps {
  onRename: () => void;
  onDuplicate: () => void;
  onRemove: () => void;
}

/** What can be done with the sheet as a whole. */
function SheetMenu({ onRename, onDuplicate, onRemove }: MenuProps) {
  const [at, setAt] = useState<HTMLElement | null>(null);
  const entries: [string, () => void][] = [
    ["Rename", onRename],
    ["Duplicate", onDuplicate],
    ["Remove", onRemove],
  ];
  return (
    <>
      <Button
        color="inherit"
        aria-haspopup="menu"
        onClick={(event) => {
          setAt(event.currentTarget);
        }}
      >
        Sheet …
      </Button>
      <Menu
        open={at !== null}
        anchorEl={at}
        onClose={() => {
          setAt(null);
        }}
      >
        {entries.map(([name, run]) => (
          <MenuItem
            key={name}
            onClick={() => {
              setAt(null);
              run();
            }}
          >
            {name}
          </MenuItem>
        ))}
      </Menu>
    </>
  );
}
