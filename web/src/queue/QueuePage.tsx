/** The queue: when the night will be over, and what is worked on in which order. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type DragEvent, useState } from "react";
import { api, type QueueItem, type RunState } from "../api/client";
import { keys } from "../api/live";
import { useActions } from "../shared/actions";
import { Bar } from "../shared/Bar";
import { Facet } from "../shared/Facet";
import { useTell } from "../shared/messages";
import { useNow } from "../shared/now";
import { clockText, isOpen, plural, progressText, sizeText, spanText, stateWord } from "../shared/words";
import { Night } from "./Night";
import { Undecided } from "./Undecided";

type RunAction = "pause" | "resume" | "cancel" | "retry";

export default function QueuePage() {
  const { data: queue, dataUpdatedAt, error } = useQuery({ queryKey: keys.queue, queryFn: api.queue, staleTime: 0 });
  const { refuse } = useTell();
  const client = useQueryClient();
  const now = useNow();
  const [chosen, setChosen] = useState<string | null>(null);
  const [over, setOver] = useState<string | null>(null);
  const items = queue?.items ?? [];
  const open = items.filter((item) => isOpen(item.run));
  const waiting = items.filter((item) => item.run.state === "waiting").map((item) => item.run.id);
  const act = (action: RunAction, of: QueueItem[]) => {
    api.act(action, of.map((item) => item.run.id)).catch(refuse);
  };
  const inState = (...states: RunState[]) => items.filter((item) => states.includes(item.run.state));
  const move = (run: string, before: string | null) => {
    api
      .moveRuns([run], before)
      .then(() => client.invalidateQueries({ queryKey: keys.queue }))
      .catch(refuse);
  };
  const place = chosen ? waiting.indexOf(chosen) : -1;
  const step = (to: number) => {
    if (chosen) move(chosen, waiting.filter((run) => run !== chosen)[to] ?? null);
  };
  const chosenItem = items.find((item) => item.run.id === chosen);
  useActions([
    { name: "Hold everything", key: "H", enabled: inState("running", "waiting").length > 0, run: () => { act("pause", inState("running", "waiting")); } },
    { name: "Let all go on", key: "G", enabled: inState("paused").length > 0, run: () => { act("resume", inState("paused")); } },
    { name: "Move the chosen run to the front", key: "f", enabled: place > 0, run: () => { step(0); } },
    { name: "Move the chosen run up", key: "[", enabled: place > 0, run: () => { step(place - 1); } },
    { name: "Move the chosen run down", key: "]", enabled: place >= 0 && place < waiting.length - 1, run: () => { step(place + 1); } },
    { name: "Move the chosen run to the end", key: "e", enabled: place >= 0, run: () => { step(waiting.length); } },
    { name: "Cancel the chosen run", key: "c", enabled: chosenItem !== undefined && isOpen(chosenItem.run), run: () => { if (chosenItem) act("cancel", [chosenItem]); } },
  ]);
  const left = queue?.all_done_in ?? null;
  const head = () => {
    if (!queue) return error ? "The queue could not be loaded." : "Loading …";
    if (open.length === 0) return "Nothing waits.";
    if (left === null) return "Everything is held.";
    return `All done at about ${clockText(new Date(dataUpdatedAt + left * 1000))}.`;
  };
  const drag = (item: QueueItem) => ({
    draggable: item.run.state === "waiting",
    onDragStart: (event: DragEvent) => {
      event.dataTransfer.setData("text/x-beryl-run", item.run.id);
      event.dataTransfer.effectAllowed = "move";
    },
    onDragOver: (event: DragEvent) => {
      if (item.run.state !== "waiting" || !event.dataTransfer.types.includes("text/x-beryl-run")) return;
      event.preventDefault();
      setOver(item.run.id);
    },
    onDragEnd: () => { setOver(null); },
    onDrop: (event: DragEvent) => {
      event.preventDefault();
      setOver(null);
      const run = event.dataTransfer.getData("text/x-beryl-run");
      if (run && run !== item.run.id) move(run, item.run.id);
    },
  });
  return (
    <>
      <Bar title="Queue" detail={queue && `${plural(open.length, "run")} open`}>
        {inState("paused").length > 0 && <Button color="inherit" variant="outlined" title="Let all go on (Shift+G)" onClick={() => { act("resume", inState("paused")); }}>Let all go on</Button>}
        {inState("running", "waiting").length > 0 && <Button color="inherit" variant="outlined" title="Hold everything (Shift+H)" onClick={() => { act("pause", inState("running", "waiting")); }}>Hold everything</Button>}
      </Bar>
      <Box sx={{ flex: 1, overflow: "auto" }}>
        <Box sx={{ px: 2.5, py: 2, display: "flex", alignItems: "baseline", gap: 2 }}>
          <Box component="h2" data-testid="night-end" sx={{ fontSize: 22, fontWeight: 700, m: 0 }}>{head()}</Box>
          <Box sx={{ color: "text.secondary" }}>{left !== null && `${spanText(Math.max(0, left - (now - dataUpdatedAt) / 1000))} of work on ${plural(queue?.lanes ?? 1, "engine slot")}`}</Box>
        </Box>
        {queue && queue.withheld.length > 0 && <Undecided items={queue.withheld} days={queue.withheld_days} now={now} />}
        {queue && left !== null && <Night queue={queue} loaded={dataUpdatedAt} now={now} chosen={chosen} onChoose={setChosen} />}
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
              <Row key={item.run.id} item={item} isChosen={item.run.id === chosen} isOver={item.run.id === over} onChoose={() => { setChosen(item.run.id); }} onAct={(action) => { act(action, [item]); }} drag={drag(item)} />
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
      if (run.progress?.read_back != null) return progressText(run.progress);
      return run.progress ? `${String(Math.floor(run.progress.fraction * 100))} %${run.progress.passes === 2 ? `, pass ${String(run.progress.pass)} of 2` : ""}` : "starting";
    case "done":
      return `${sizeText(run.size ?? 0)}, checked`;
    case "withheld":
    case "failed":
    case "cancelled":
      return run.problem?.why ?? stateWord(run.state);
    case "waiting":
    case "paused":
    case "checking":
      return stateWord(run.state);
  }
}

interface RowProps {
  item: QueueItem;
  isChosen: boolean;
  isOver: boolean;
  onChoose: () => void;
  onAct: (action: RunAction) => void;
  drag: object;
}

function Row({ item, isChosen, isOver, onChoose, onAct, drag }: RowProps) {
  const { run } = item;
  const progress = run.state === "running" ? run.progress : null;
  return (
    <Box component="tr" data-state={run.state} data-run={run.id} aria-selected={isChosen} onClick={onChoose} {...drag} sx={{ bgcolor: isChosen ? "action.selected" : undefined, cursor: run.state === "waiting" ? "grab" : "default", "& td": isOver ? { boxShadow: "inset 0 2px 0 currentColor" } : {} }}>
      <td style={{ width: 40 }}>
        <Facet state={run.state} fraction={run.progress?.fraction ?? 0} title={stateWord(run.state)} />
      </td>
      <td>
        <b>{item.source_name}</b>
      </td>
      <td>{item.preset_name}</td>
      <Box component="td" sx={{ color: "text.secondary" }}>{item.origin_name}</Box>
      <Box component="td" sx={{ maxWidth: 340, overflow: "hidden", textOverflow: "ellipsis" }} title={where(item)}>{where(item)}</Box>
      <td>{progress && progress.speed > 0 ? `${progress.speed.toFixed(progress.speed < 1 ? 2 : 1)}×` : ""}</td>
      <td>{progress?.remaining == null ? "" : spanText(progress.remaining)}</td>
      <td style={{ textAlign: "right" }}>
        {run.state === "paused" && <Button color="inherit" onClick={() => { onAct("resume"); }}>Go on</Button>}
        {(run.state === "running" || run.state === "waiting") && <Button color="inherit" onClick={() => { onAct("pause"); }}>Hold</Button>}
        {isOpen(run) && <Button color="inherit" onClick={() => { onAct("cancel"); }}>Cancel</Button>}
        {(run.state === "failed" || run.state === "cancelled") && <Button color="inherit" onClick={() => { onAct("retry"); }}>Retry</Button>}
      </td>
    </Box>
  );
}
