/** The forecast of the night: one lane an engine slot, blocks to scale along the clock, now as a line. */
import Box from "@mui/material/Box";
import type { Block, Queue } from "../api/client";
import { clockText } from "../shared/words";

interface Props {
  queue: Queue;
  /** When the forecast was made, in milliseconds since 1970. */
  loaded: number;
  now: number;
  chosen: string | null;
  onChoose: (run: string) => void;
}

const LANE = 40;
const AXIS = 22;
/** Room for what began before now, as a part of the width. */
const PAST = 0.06;
/** More blocks than this in a picture tell nothing more. */
const MOST_BLOCKS = 400;
const STEPS = [10, 30, 60, 300, 600, 900, 1800, 3600, 7200, 14_400, 28_800, 86_400];
const MARKS = 9;

/** Moments on the hour, the minute … for which there is room, in milliseconds since 1970. */
function marks(from: number, to: number): number[] {
  const step = (STEPS.find((seconds) => (to - from) / 1000 / seconds <= MARKS) ?? STEPS.at(-1) ?? 1) * 1000;
  const first = Math.ceil(from / step) * step;
  return Array.from({ length: Math.max(0, Math.floor((to - first) / step) + 1) }, (_, number) => first + number * step);
}

export function Night({ queue, loaded, now, chosen, onChoose }: Props) {
  const lanes = Math.max(queue.lanes, ...queue.blocks.map((block) => block.lane + 1));
  const end = loaded + Math.max(queue.all_done_in ?? 0, 5) * 1000;
  const begin = loaded - (end - loaded) * PAST;
  const across = (moment: number) => `${String(Math.min(Math.max(((moment - begin) / (end - begin)) * 100, 0), 100))}%`;
  const items = new Map(queue.items.map((item) => [item.run.id, item]));
  return (
    <Box data-testid="night" sx={{ position: "relative", mx: 2.5, mb: 2.5, height: AXIS + lanes * LANE, borderBottom: 1, borderColor: "divider" }}>
      {marks(begin, end).map((moment) => (
        <Box key={moment} sx={{ position: "absolute", left: across(moment), top: 0, bottom: 0, borderLeft: 1, borderColor: "divider", pl: 0.5, fontSize: 11, color: "text.secondary", whiteSpace: "nowrap" }}>
          {clockText(new Date(moment), (end - begin) / 1000 < 600)}
        </Box>
      ))}
      {Array.from({ length: lanes }, (_, lane) => (
        <Box key={lane} sx={{ position: "absolute", left: 0, right: 0, top: AXIS + lane * LANE, height: LANE, borderTop: 1, borderColor: "divider" }} />
      ))}
      {queue.blocks.slice(0, MOST_BLOCKS).map((block) => {
        const from = block.start === 0 && isAtWork(block, items) ? begin : loaded + block.start * 1000;
        const first = items.get(block.runs[0] ?? "");
        const presets = block.runs.map((run) => items.get(run)?.preset_name).filter(Boolean).join(", ");
        const atWork = isAtWork(block, items);
        const isChosen = chosen !== null && block.runs.includes(chosen);
        return (
          <Box
            key={block.runs.join(" ")}
            component="button"
            title={`${first?.source_name ?? ""}: ${presets}; done at about ${clockText(new Date(loaded + block.end * 1000))}`}
            onClick={() => { if (block.runs[0]) onChoose(block.runs[0]); }}
            sx={{ all: "unset", boxSizing: "border-box", position: "absolute", left: across(from), width: `calc(${across(loaded + block.end * 1000)} - ${across(from)} - 2px)`, minWidth: 3, top: AXIS + block.lane * LANE + 4, height: LANE - 8, px: 0.75, borderRadius: 1, border: 1, borderColor: isChosen ? "primary.main" : atWork ? "warning.main" : "divider", bgcolor: "action.selected", fontSize: 12, lineHeight: 1.3, overflow: "hidden", whiteSpace: "nowrap", cursor: "pointer", "&:focus-visible": { outline: "2px solid", outlineColor: "primary.main" } }}
          >
            <Box sx={{ fontWeight: 600 }}>{first?.source_name}</Box>
            <Box sx={{ color: "text.secondary", fontSize: 11 }}>{presets}</Box>
          </Box>
        );
      })}
      <Box aria-label="now" sx={{ position: "absolute", left: across(now), top: 0, bottom: 0, borderLeft: 2, borderColor: "primary.main", pointerEvents: "none" }} />
    </Box>
  );
}

function isAtWork(block: Block, items: Map<string, Queue["items"][number]>): boolean {
  return block.runs.some((run) => items.get(run)?.run.state !== "waiting");
}
