/** Where files can be dropped: they are copied into a storage and become sources. */
import { styled } from "@mui/material/styles";
import { type DragEvent, type ReactNode, useState } from "react";
import { useTell } from "../shared/messages";
import { useUploads } from "./uploads";

const Area = styled("div")(({ theme: { palette } }) => ({
  position: "relative",
  flex: 1,
  minHeight: 0,
  display: "flex",
  flexDirection: "column",
  "& > .over": {
    position: "absolute",
    inset: 8,
    zIndex: 5,
    border: `2px dashed ${palette.primary.main}`,
    borderRadius: 12,
    background: palette.background.default,
    opacity: 0.92,
    display: "grid",
    placeItems: "center",
    fontSize: 18,
    fontWeight: 700,
    pointerEvents: "none",
  },
}));

export function DropArea({ sheet, children }: { sheet: string; children: ReactNode }) {
  const [over, setOver] = useState(false);
  const { tell, refuse } = useTell();
  const upload = useUploads();
  const take = (event: DragEvent) => {
    event.preventDefault();
    setOver(false);
    // The list of items is gone when the event has passed: entries are asked for at once.
    const entries = [...event.dataTransfer.items]
      .map((item) => item.webkitGetAsEntry())
      .filter((entry) => entry !== null);
    import("./batch")
      .then(({ droppedFiles }) => droppedFiles(entries))
      .then((files) => {
        if (files.length === 0) tell("There was no file in what was dropped.");
        else upload({ files, sheet });
      })
      .catch(refuse);
  };
  return (
    <Area
      data-testid="drop-area"
      onDragOver={(event) => {
        if (!event.dataTransfer.types.includes("Files")) return;
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={(event) => {
        if (!event.currentTarget.contains(event.relatedTarget as Node | null)) setOver(false);
      }}
      onDrop={take}
    >
      {children}
      {over && <div className="over">Drop files or folders: they are uploaded to a storage and become sources</div>}
    </Area>
  );
}
