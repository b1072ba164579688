/** The forecast of the night: one lane an job slot, blocks to scale along the clock, now as a line. */
import Box from "@mui/material/Box";
import type { Night as Forecast } from "../api/client";
import { useNow } from "../shared/now";
import { clockText, plural } from "../shared/words";

interface Props {
  night: Forecast;
  /** When the forecast was made, in milliseconds since 1970. */
  loaded: number;
  chosen: string | null;
  onChoose: (run: string) => void;
}

const LANE = 40;
const AXIS = 22;
/** Room for what began before now, as a part of the width. */
const PAST = 0.06;
const STEPS = [10, 30, 60, 300, 600, 900, 1800, 3600, 7200, 14_400, 28_800, 86_400];
const MARKS = 9;

/** Moments on the hour, the minute … for which there is room, in milliseconds since 1970. */
function marks(from: number, to: number): number[] {
  const step = (STEPS.find((seconds) => (to - from) / 1000 / seconds <= MARKS) ?? STEPS.at(-1) ?? 1) * 1000;
  const first = Math.ceil(from / step) * step;
  return Array.from({ length: Math.max(0, Math.floor((to - first) / step) + 1) }, (_, number) => first + number * step);
}

export function Night({ night, loaded, chosen, onChoose }: Props) {
  const lanes = Math.max(night.lanes, ...night.jobs.map((job) => job.lane + 1));
  const end = loaded + Math.max(night.all_done_in ?? 0, 5) * 1000;
  const begin = loaded - (end - loaded) * PAST;
  const across = (moment: number) => `${String(Math.min(Math.max(((moment - begin) / (end - begin)) * 100, 0), 100))}%`;
  return (
    <Box
      data-testid="night"
      sx={{
        position: "relative",
        mx: 2.5,
        mb: 2.5,
        height: AXIS + lanes * LANE,
        borderBottom: 1,
        borderColor: "divider",
      }}
    >
      {marks(begin, end).map((moment) => (
        <Box
          key={moment}
          sx={{
            position: "absolute",
            left: across(moment),
            top: 0,
            bottom: 0,
            borderLeft: 1,
            borderColor: "divider",
            pl: 0.5,
            fontSize: 11,
            color: "text.secondary",
            whiteSpace: "nowrap",
          }}
        >
          {clockText(new Date(moment), (end - begin) / 1000 < 600)}
        </Box>
      ))}
      {Array.from({ length: lanes }, (_, lane) => (
        <Box
          key={lane}
          sx={{
            position: "absolute",
            left: 0,
            right: 0,
            top: AXIS + lane * LANE,
            height: LANE,
            borderTop: 1,
            borderColor: "divider",
          }}
        />
      ))}
      {night.jobs.map((job) => {
        const from = job.at_work ? begin : loaded + job.start * 1000;
        const presets = job.presets.join(", ");
        const isChosen = chosen !== null && job.runs.includes(chosen);
        return (
          <Box
            key={job.runs.join(" ")}
            component="button"
            onClick={() => {
              if (job.runs[0]) onChoose(job.runs[0]);
            }}
            title={`${job.source_name}: ${presets}; done at about ${clockText(new Date(loaded + job.end * 1000))}`}
            sx={{
              all: "unset",
              boxSizing: "border-box",
              position: "absolute",
              left: across(from),
              width: `calc(${across(loaded + job.end * 1000)} - ${across(from)} - 2px)`,
              minWidth: 3,
              top: AXIS + job.lane * LANE + 4,
              height: LANE - 8,
              px: 0.75,
              borderRadius: 1,
              border: 1,
              borderColor: isChosen ? "primary.main" : job.at_work ? "warning.main" : "divider",
              bgcolor: "action.selected",
              fontSize: 12,
              lineHeight: 1.3,
              overflow: "hidden",
              whiteSpace: "nowrap",
              cursor: "pointer",
            }}
          >
            <Box sx={{ fontWeight: 600 }}>{job.source_name}</Box>
            <Box sx={{ color: "text.secondary", fontSize: 11 }}>{presets}</Box>
          </Box>
        );
      })}
      {night.further_jobs > 0 && (
        <Box
          sx={{
            position: "absolute",
            right: 0,
            top: AXIS + 4,
            px: 1,
            py: 0.5,
            color: "text.secondary",
            fontSize: 12,
            bgcolor: "background.default",
          }}
        >
          {plural(night.further_jobs, "more job")} behind these
        </Box>
      )}
      <Now across={across} />
    </Box>
  );
}

/** The present moment, as a line. */
function Now({ across }: { across: (moment: number) => string }) {
  const now = useNow();
  return (
    <Box
      sx={{
        position: "absolute",
        top: 0,
        bottom: 0,
        borderLeft: 2,
        borderColor: "primary.main",
        pointerEvents: "none",
      }}
      style={{ left: across(now) }}
    />
  );
}
