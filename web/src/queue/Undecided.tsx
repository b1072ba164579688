/** Files that wait for a decision, those that have waited longest first. None goes by itself. */
import { styled } from "@mui/material/styles";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useState } from "react";
import type { QueueItem } from "../api/client";
import { Decide } from "../shared/Decide";
import { Facet } from "../shared/Facet";
import { useNow } from "../shared/now";
import { clipped } from "../shared/theme";
import { plural } from "../shared/words";

const DAY = 86_400_000;

function daysOf(item: QueueItem, now: number): number {
  return item.run.finished ? Math.floor((now - new Date(item.run.finished).getTime()) / DAY) : 0;
}

const Why = styled("div")(({ theme: { palette } }) => ({
  flex: 1,
  minWidth: 0,
  color: palette.text.secondary,
  ...clipped,
}));

export function Undecided({ items, days }: { items: QueueItem[]; days: number }) {
  const now = useNow();
  const [chosen, setChosen] = useState<string | null>(null);
  return (
    <Box
      component="section"
      aria-label="Withheld"
      sx={{ mx: 2.5, mb: 2, border: 1, borderColor: "secondary.main", borderRadius: 2 }}
    >
      <Box sx={{ px: 1.5, py: 1, fontWeight: 600 }}>
        {plural(items.length, "file")} {items.length === 1 ? "waits" : "wait"} for your decision
      </Box>
      {items.map((item) => {
        const age = daysOf(item, now);
        const isOpen = chosen === item.run.id;
        return (
          <Box
            key={item.run.id}
            data-withheld={item.run.id}
            sx={{ borderTop: 1, borderColor: "divider", px: 1.5, py: 0.75 }}
          >
            <Box sx={{ display: "flex", alignItems: "center", gap: 1.5, minWidth: 0 }}>
              <Facet state="withheld" size={18} title="withheld" />
              <Box sx={{ fontWeight: 600, flex: "none" }}>{item.source_name}</Box>
              <Box sx={{ flex: "none" }}>{item.preset_name}</Box>
              <Why title={item.run.problem?.why}>{item.run.problem?.why}</Why>
              <Box sx={{ flex: "none", color: age >= days ? "secondary.main" : "text.secondary" }}>
                {age === 0 ? "since today" : `for ${plural(age, "day")}`}
              </Box>
              <Button
                color="inherit"
                aria-expanded={isOpen}
                onClick={() => {
                  setChosen(isOpen ? null : item.run.id);
                }}
              >
                Decide
              </Button>
            </Box>
            {isOpen && <Decide run={item.run.id} where={`It is ${item.run.path}.`} />}
          </Box>
        );
      })}
    </Box>
  );
}
