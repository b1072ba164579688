/** The forecast of the night: one lane an job slot, blocks to scale along the clock, now as a line. */
import { styled } from "@mui/material/styles";
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

const Clock = styled("div")(({ theme: { palette, spacing } }) => ({
  position: "relative",
  margin: spacing(0, 2.5, 2.5),
  borderBottom: `1px solid ${palette.divider}`,
}));

const Moment = styled("div")(({ theme: { palette, spacing } }) => ({
  position: "absolute",
  top: 0,
  bottom: 0,
  borderLeft: `1px solid ${palette.divider}`,
  paddingLeft: spacing(0.5),
  fontSize: 11,
  color: palette.text.secondary,
  whiteSpace: "nowrap",
}));

const Lane = styled("div")(({ theme: { palette } }) => ({
  position: "absolute",
  left: 0,
  right: 0,
  height: LANE,
  borderTop: `1px solid ${palette.divider}`,
}));

const Job = styled("button", { shouldForwardProp: (prop) => prop !== "state" })<{
  state: "chosen" | "running" | "waiting";
}>(({ theme: { palette, spacing }, state }) => ({
  all: "unset",
  boxSizing: "border-box",
  position: "absolute",
  minWidth: 3,
  height: LANE - 8,
  padding: spacing(0, 0.75),
  borderRadius: 8,
  border: `1px solid ${{ chosen: palette.primary.main, running: palette.warning.main, waiting: palette.divider }[state]}`,
  backgroundColor: palette.action.selected,
  fontSize: 12,
  lineHeight: 1.3,
  overflow: "hidden",
  whiteSpace: "nowrap",
  cursor: "pointer",
}));

const Further = styled("div")(({ theme: { palette, spacing } }) => ({
  position: "absolute",
  right: 0,
  top: AXIS + 4,
  padding: spacing(0.5, 1),
  color: palette.text.secondary,
  fontSize: 12,
  backgroundColor: palette.background.default,
}));

const NowLine = styled("div")(({ theme: { palette } }) => ({
  position: "absolute",
  top: 0,
  bottom: 0,
  borderLeft: `2px solid ${palette.primary.main}`,
  pointerEvents: "none",
}));

export function Night({ night, loaded, chosen, onChoose }: Props) {
  const lanes = Math.max(night.lanes, ...night.jobs.map((job) => job.lane + 1));
  const end = loaded + Math.max(night.all_done_in ?? 0, 5) * 1000;
  const begin = loaded - (end - loaded) * PAST;
  const across = (moment: number) => `${String(Math.min(Math.max(((moment - begin) / (end - begin)) * 100, 0), 100))}%`;
  return (
    <Clock data-testid="night" style={{ height: AXIS + lanes * LANE }}>
      {marks(begin, end).map((moment) => (
        <Moment key={moment} style={{ left: across(moment) }}>
          {clockText(new Date(moment), (end - begin) / 1000 < 600)}
        </Moment>
      ))}
      {Array.from({ length: lanes }, (_, lane) => (
        <Lane key={lane} style={{ top: AXIS + lane * LANE }} />
      ))}
      {night.jobs.map((job) => {
        const from = job.at_work ? begin : loaded + job.start * 1000;
        const presets = job.presets.join(", ");
        const isChosen = chosen !== null && job.runs.includes(chosen);
        return (
          <Job
            key={job.runs.join(" ")}
            onClick={() => {
              if (job.runs[0]) onChoose(job.runs[0]);
            }}
            title={`${job.source_name}: ${presets}; done at about ${clockText(new Date(loaded + job.end * 1000))}`}
            style={{
              left: across(from),
              width: `calc(${across(loaded + job.end * 1000)} - ${across(from)} - 2px)`,
              top: AXIS + job.lane * LANE + 4,
            }}
            state={isChosen ? "chosen" : job.at_work ? "running" : "waiting"}
          >
            <Box sx={{ fontWeight: 600 }}>{job.source_name}</Box>
            <Box sx={{ color: "text.secondary", fontSize: 11 }}>{presets}</Box>
          </Job>
        );
      })}
      {night.further_jobs > 0 && <Further>{plural(night.further_jobs, "more job")} behind these</Further>}
      <Now across={across} />
    </Clock>
  );
}

/** The present moment, as a line. */
function Now({ across }: { across: (moment: number) => string }) {
  const now = useNow();
  return <NowLine style={{ left: across(now) }} />;
}
