/** The queue: when the night will be over, and what is worked on. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";
import { api, type QueueItem, type RunState } from "../api/client";
import { keys } from "../api/live";
import { Bar } from "../shared/Bar";
import { Facet } from "../shared/Facet";
import { useTell } from "../shared/messages";
import { useNow } from "../shared/now";
import { clockText, isOpen, plural, sizeText, spanText, stateWord } from "../shared/words";

/** Seconds of work left on everything that is at work or waits, from the pace of what runs now. */
export function workLeft(items: QueueItem[]): number | null {
  const running = items.filter((item) => item.run.state === "running");
  const speeds = running.map((item) => item.run.progress?.speed ?? 0).filter((speed) => speed > 0);
  if (speeds.length === 0) return null;
  const pace = speeds.reduce((sum, speed) => sum + speed, 0);
  const left = Math.max(...running.map((item) => item.run.progress?.remaining ?? 0));
  const waiting = items.filter((item) => item.run.state === "waiting").reduce((sum, item) => sum + (item.seconds ?? 0), 0);
  return left + waiting / pace;
}

export default function QueuePage() {
  const { data: items = [] } = useQuery({ queryKey: keys.queue, queryFn: api.queue, staleTime: 0 });
  const { refuse } = useTell();
  const now = useNow();
  const open = items.filter((item) => isOpen(item.run));
  const left = workLeft(items);
  const act = (action: "pause" | "resume" | "cancel" | "retry", of: QueueItem[]) => {
    api.act(action, of.map((item) => item.run.id)).catch(refuse);
  };
  const inState = (...states: RunState[]) => items.filter((item) => states.includes(item.run.state));
  return (
    <>
      <Bar title="Queue" detail={`${plural(open.length, "run")} open`}>
        {inState("paused").length > 0 && <Button color="inherit" variant="outlined" onClick={() => { act("resume", inState("paused")); }}>Let all go on</Button>}
        {inState("running", "waiting").length > 0 && <Button color="inherit" variant="outlined" onClick={() => { act("pause", inState("running", "waiting")); }}>Hold everything</Button>}
      </Bar>
      <Box sx={{ flex: 1, overflow: "auto" }}>
        <Box sx={{ px: 2.5, py: 2, display: "flex", alignItems: "baseline", gap: 2 }}>
          <Box component="h2" sx={{ fontSize: 22, fontWeight: 700, m: 0 }}>
            {open.length === 0 ? "Nothing waits." : left === null ? "The end is not known yet." : `All done at about ${clockText(new Date(now + left * 1000))}.`}
          </Box>
          <Box sx={{ color: "text.secondary" }}>{left !== null && `${spanText(left)} of work at the present pace`}</Box>
        </Box>
        <Box component="table" sx={{ width: "100%", borderCollapse: "collapse", "& td, & th": { textAlign: "left", borderBottom: 1, borderColor: "divider", px: 1.5, height: 38, whiteSpace: "nowrap" }, "& th": { color: "text.secondary", fontWeight: 500 } }}>
          <thead>
            <tr>
              <th aria-label="State" />
              <th>Source</th>
              <th>Deliverable</th>
              <th>From</th>
              <th>Where it is</th>
              <th>Speed</th>
              <th>Left</th>
              <th aria-label="Actions" />
            </tr>
          </thead>
          <tbody>
            {items.map((item) => (
              <Row key={item.run.id} item={item} onAct={(action) => { act(action, [item]); }} />
            ))}
          </tbody>
        </Box>
      </Box>
    </>
  );
}

function where({ run }: QueueItem): string {
  switch (run.state) {
    case "running":
      return run.progress ? `${String(Math.floor(run.progress.fraction * 100))} %${run.progress.passes === 2 ? `, pass ${String(run.progress.pass)} of 2` : ""}` : "starting";
    case "done":
      return `${sizeText(run.size ?? 0)}, checked`;
    case "failed":
    case "cancelled":
      return run.problem?.why ?? stateWord(run.state);
    case "waiting":
    case "paused":
    case "checking":
      return stateWord(run.state);
  }
}

function Row({ item, onAct }: { item: QueueItem; onAct: (action: "pause" | "resume" | "cancel" | "retry") => void }) {
  const { run } = item;
  const progress = run.state === "running" ? run.progress : null;
  return (
    <tr data-state={run.state}>
      <td style={{ width: 40 }}>
        <Facet state={run.state} fraction={run.progress?.fraction ?? 0} title={stateWord(run.state)} />
      </td>
      <td>
        <b>{item.source_name}</b>
      </td>
      <td>{item.preset_name}</td>
      <Box component="td" sx={{ color: "text.secondary" }}>{item.origin_name}</Box>
      <Box component="td" sx={{ maxWidth: 340, overflow: "hidden", textOverflow: "ellipsis" }} title={where(item)}>{where(item)}</Box>
      <td>{progress ? `${progress.speed.toFixed(1)}×` : ""}</td>
      <td>{progress?.remaining == null ? "" : spanText(progress.remaining)}</td>
      <td style={{ textAlign: "right" }}>
        {run.state === "paused" && <Button color="inherit" onClick={() => { onAct("resume"); }}>Go on</Button>}
        {(run.state === "running" || run.state === "waiting") && <Button color="inherit" onClick={() => { onAct("pause"); }}>Hold</Button>}
        {isOpen(run) && <Button color="inherit" onClick={() => { onAct("cancel"); }}>Cancel</Button>}
        {(run.state === "failed" || run.state === "cancelled") && <Button color="inherit" onClick={() => { onAct("retry"); }}>Retry</Button>}
      </td>
    </tr>
  );
}
