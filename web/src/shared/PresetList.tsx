/** Presets to choose from: what each is for, and what a minute of it weighs. */
import { styled } from "@mui/material/styles";
import Box from "@mui/material/Box";
import { useQuery } from "@tanstack/react-query";
import { api, type PresetItem } from "../api/client";
import { keys } from "../api/live";
import { sizeText } from "./words";

interface Props {
  /** Ids of the chosen ones. */
  chosen: string[];
  onChoose: (item: PresetItem) => void;
  onTake?: () => void;
  isMultiple?: boolean;
}

const Entry = styled("button", { shouldForwardProp: (prop) => prop !== "isChosen" })<{ isChosen: boolean }>(
  ({ theme: { palette, spacing }, isChosen }) => ({
    all: "unset",
    boxSizing: "border-box",
    display: "block",
    width: "100%",
    padding: spacing(0.75, 1.25),
    borderRadius: 12,
    cursor: "pointer",
    borderLeft: `3px solid ${isChosen ? palette.primary.main : "transparent"}`,
    backgroundColor: isChosen ? palette.action.selected : undefined,
    "&:hover": { backgroundColor: palette.action.hover },
  }),
);

export function PresetList({ chosen, onChoose, onTake, isMultiple = false }: Props) {
  const { data: presets } = useQuery({ queryKey: keys.presets, queryFn: api.presets });
  return (
    <Box role="listbox" aria-label="Presets" aria-multiselectable={isMultiple} sx={{ flex: 1, overflow: "auto" }}>
      {presets?.map((item) => {
        const isChosen = chosen.includes(item.preset.id);
        return (
          <Entry
            key={item.preset.id}
            role="option"
            aria-selected={isChosen}
            data-preset={item.preset.id}
            onClick={() => {
              onChoose(item);
            }}
            onDoubleClick={onTake}
            isChosen={isChosen}
          >
            <Box sx={{ display: "flex", justifyContent: "space-between", gap: 2 }}>
              <Box sx={{ fontWeight: 600 }}>{item.preset.name}</Box>
              <Box sx={{ color: "text.secondary", fontSize: 12, whiteSpace: "nowrap" }}>
                {item.headline}
                {item.bytes_per_minute != null && ` · ${sizeText(item.bytes_per_minute)}/min`}
              </Box>
            </Box>
            <Box sx={{ color: "text.secondary", fontSize: 12 }}>{item.preset.use_when}</Box>
          </Entry>
        );
      })}
    </Box>
  );
}
