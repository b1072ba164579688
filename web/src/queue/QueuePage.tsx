/** The queue: when the night will be over, and what is worked on in which order. Only rows in sight are loaded and drawn. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { styled } from "@mui/material/styles";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type DragEvent, type MouseEvent, useLayoutEffect, useRef, useState } from "react";
import { api, type QueueItem } from "../api/client";
import { keys } from "../api/live";
import { useActions } from "../shared/actions";
import { Bar } from "../shared/Bar";
import { useMayCancel } from "../shared/cancelling";
import { Facet } from "../shared/Facet";
import { useTell } from "../shared/messages";
import { useNow } from "../shared/now";
import { clipped } from "../shared/theme";
import { clockText, isOpen, plural, progressText, sizeText, spanText, stateWord } from "../shared/words";
import { Night } from "./Night";
import { useQueueHead, useQueueRows, useRowPlaces } from "./rows";
import { Undecided } from "./Undecided";

type RunAction = "pause" | "resume" | "cancel" | "retry";

const ROW = 38;

interface Chosen {
  run: string;
  place: number;
}

export default function QueuePage() {
  const { data: queue, error } = useQueueHead();
  const { data: night, dataUpdatedAt } = useQuery({ queryKey: keys.night, queryFn: api.night, staleTime: 0 });
  const { refuse } = useTell();
  const client = useQueryClient();
  const { rowAt, placeOf } = useRowPlaces();
  const [chosen, setChosen] = useState<Chosen | null>(null);
  const [over, setOver] = useState<string | null>(null);
  const scroller = useRef<HTMLDivElement>(null);
  const table = useRef<HTMLTableElement>(null);
  const [above, setAbove] = useState(0);
  // What stands above the rows grows and shrinks with the night.
  useLayoutEffect(() => {
    setAbove(table.current?.offsetTop ?? 0);
  }, [night]);
  const count = queue?.rows ?? 0;
  const view = useVirtualizer({
    count,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 12,
    scrollMargin: above,
  });
  const inSight = view.getVirtualItems();
  const rows = useQueueRows(inSight[0]?.index ?? 0, inSight.at(-1)?.index ?? 0);
  const open = queue ? queue.at_work + queue.held + queue.waiting : 0;
  const firstWaiting = queue ? queue.at_work + queue.held : 0;
  const act = (action: RunAction, runs: string[] | null) => {
    api.act(action, runs).catch(refuse);
  };
  const mayCancel = useMayCancel();
  const cancel = async (item: QueueItem) => {
    if (await mayCancel([item.run])) act("cancel", [item.run.id]);
  };
  const move = async (run: string, before: string | null) => {
    try {
      await api.moveRuns([run], before);
      await client.invalidateQueries({ queryKey: keys.queue });
    } catch (error) {
      refuse(error);
    }
  };
  /** Moves the chosen run to a place, by the run that is there now. */
  const moveTo = async (place: number) => {
    if (!chosen) return;
    const to = Math.min(Math.max(place, firstWaiting), open - 1);
    const before = place >= open ? undefined : await rowAt(to > chosen.place ? to + 1 : to);
    setChosen({ run: chosen.run, place: to });
    await move(chosen.run, before?.run.state === "waiting" ? before.run.id : null);
  };
  const choose = (run: string, place: number) => {
    setChosen({ run, place });
  };
  const pick = ({ target }: MouseEvent) => {
    const row = (target as Element).closest<HTMLTableRowElement>("tr[data-run]");
    if (row?.dataset.run) choose(row.dataset.run, Number(row.getAttribute("aria-rowindex")) - 2);
  };
  const step = async (by: number) => {
    const place = Math.min(Math.max((chosen?.place ?? -1) + by, 0), count - 1);
    const item = await rowAt(place);
    if (!item) return;
    choose(item.run.id, place);
    view.scrollToIndex(place);
  };
  const chosenItem = chosen ? rows.get(chosen.place) : undefined;
  const isWaiting = chosenItem?.run.state === "waiting";
  useActions([
    {
      name: "Hold everything",
      key: "H",
      enabled: (queue?.at_work ?? 0) + (queue?.waiting ?? 0) > 0,
      run: () => {
        act("pause", null);
      },
    },
    {
      name: "Let all go on",
      key: "G",
      enabled: (queue?.held ?? 0) > 0,
      run: () => {
        act("resume", null);
      },
    },
    { name: "Choose the run above", key: "ArrowUp", enabled: count > 0, run: () => void step(-1) },
    { name: "Choose the run below", key: "ArrowDown", enabled: count > 0, run: () => void step(1) },
    { name: "Move the chosen run to the front", key: "f", enabled: isWaiting, run: () => void moveTo(firstWaiting) },
    {
      name: "Move the chosen run up",
      key: "Shift+ArrowUp",
      enabled: isWaiting,
      run: () => void moveTo((chosen?.place ?? 0) - 1),
    },
    {
      name: "Move the chosen run down",
      key: "Shift+ArrowDown",
      enabled: isWaiting,
      run: () => void moveTo((chosen?.place ?? 0) + 1),
    },
    { name: "Move the chosen run to the end", key: "e", enabled: isWaiting, run: () => void moveTo(open) },
    {
      name: "Cancel the chosen run",
      key: "c",
      enabled: chosenItem !== undefined && isOpen(chosenItem.run),
      run: () => {
        if (chosenItem) void cancel(chosenItem);
      },
    },
  ]);
  const left = night?.all_done_in ?? null;
  const head = () => {
    if (!queue || !night) return error ? "The queue could not be loaded." : "Loading …";
    if (open === 0) return "Nothing waits.";
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
    onDragEnd: () => {
      setOver(null);
    },
    onDrop: (event: DragEvent) => {
      event.preventDefault();
      setOver(null);
      const run = event.dataTransfer.getData("text/x-beryl-run");
      if (run && run !== item.run.id) void move(run, item.run.id);
    },
  });
  const before = (inSight[0]?.start ?? above) - above;
  const behind = Math.max(0, view.getTotalSize() - ((inSight.at(-1)?.end ?? above) - above));
  return (
    <>
      <Bar title="Queue" detail={queue && `${plural(open, "run")} open`}>
        {queue && queue.held > 0 && (
          <Button
            color="inherit"
            variant="outlined"
            title="Let all go on (Shift+G)"
            onClick={() => {
              act("resume", null);
            }}
          >
            Let all go on
          </Button>
        )}
        {queue && queue.at_work + queue.waiting > 0 && (
          <Button
            color="inherit"
            variant="outlined"
            title="Hold everything (Shift+H)"
            onClick={() => {
              act("pause", null);
            }}
          >
            Hold everything
          </Button>
        )}
      </Bar>
      <Box ref={scroller} sx={{ flex: 1, overflow: "auto", position: "relative" }}>
        <Box sx={{ px: 2.5, py: 2, display: "flex", alignItems: "baseline", gap: 2 }}>
          <Box component="h2" data-testid="night-end" sx={{ fontSize: 22, fontWeight: 700, m: 0 }}>
            {head()}
          </Box>
          <Box sx={{ color: "text.secondary" }}>
            {left !== null && <Left seconds={left} since={dataUpdatedAt} lanes={night?.lanes ?? 1} />}
          </Box>
        </Box>
        {night && night.withheld.length > 0 && <Undecided items={night.withheld} days={night.withheld_days} />}
        {night && left !== null && (
          <Night
            night={night}
            loaded={dataUpdatedAt}
            chosen={chosen?.run ?? null}
            onChoose={(run) => {
              setChosen({ run, place: placeOf(run) });
            }}
          />
        )}
        <Table ref={table} role="grid" aria-label="Runs" aria-rowcount={count + 1} tabIndex={0} onClick={pick}>
          <thead>
            <tr>
              <th aria-label="State" style={{ width: 48 }} />
              <th style={{ width: "24%" }}>Source</th>
              <th style={{ width: "14%" }}>Deliverable</th>
              <th style={{ width: "12%" }}>From</th>
              <th>Where it is</th>
              <th style={{ width: 80 }}>Speed</th>
              <th style={{ width: 110 }}>Left</th>
              <th aria-label="Actions" style={{ width: 170 }} />
            </tr>
          </thead>
          <tbody>
            {before > 0 && <Gap height={before} />}
            {inSight.map(({ index }) => {
              const item = rows.get(index);
              if (!item) return <Gap key={index} height={ROW} />;
              return (
                <Row
                  key={item.run.id}
                  item={item}
                  place={index}
                  isChosen={item.run.id === chosen?.run}
                  isOver={item.run.id === over}
                  onAct={(action) => {
                    if (action === "cancel") void cancel(item);
                    else act(action, [item.run.id]);
                  }}
                  drag={drag(item)}
                />
              );
            })}
            {behind > 0 && <Gap height={behind} />}
          </tbody>
        </Table>
      </Box>
    </>
  );
}

/** How the rows look: one set of rules for all of them. */
const Table = styled("table")(({ theme: { palette, typography } }) => ({
  width: "100%",
  tableLayout: "fixed",
  borderCollapse: "collapse",
  "& td, & th": {
    textAlign: "left",
    borderBottom: `1px solid ${palette.divider}`,
    padding: "0 12px",
    height: ROW,
    ...clipped,
  },
  "& th": { color: palette.text.secondary, fontWeight: 500 },
  "& tr[aria-selected=true]": { background: palette.action.selected },
  "& tr[draggable=true]": { cursor: "grab" },
  "& tr[data-over=true] td": { boxShadow: "inset 0 2px 0 currentColor" },
  "& .quiet": { color: palette.text.secondary },
  "& .acts": { textAlign: "right" },
  "& button": {
    font: "inherit",
    fontWeight: typography.button.fontWeight,
    color: "inherit",
    background: "none",
    border: 0,
    borderRadius: 8,
    padding: "5px 8px",
    cursor: "pointer",
    "&:hover": { background: palette.action.hover },
  },
}));

/** How much work is left of the night, by the clock. */
function Left({ seconds, since, lanes }: { seconds: number; since: number; lanes: number }) {
  const now = useNow();
  return `${spanText(Math.max(0, seconds - (now - since) / 1000))} of work on ${plural(lanes, "engine slot")}`;
}

/** Room for rows that are not drawn. */
function Gap({ height }: { height: number }) {
  return (
    <tr aria-hidden={true}>
      <td colSpan={8} style={{ height, padding: 0, border: 0 }} />
    </tr>
  );
}

function where({ run }: QueueItem): string {
  switch (run.state) {
    case "running":
      if (run.progress?.read_back != null) return progressText(run.progress);
      return run.progress
        ? `${run.progress.task === "analyse" ? "analysing, " : ""}${String(Math.floor(run.progress.fraction * 100))} %`
        : "starting";
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
  place: number;
  isChosen: boolean;
  isOver: boolean;
  onAct: (action: RunAction) => void;
  drag: object;
}

function Row({ item, place, isChosen, isOver, onAct, drag }: RowProps) {
  const { run } = item;
  const progress = run.state === "running" ? run.progress : null;
  return (
    <tr
      aria-rowindex={place + 2}
      data-state={run.state}
      data-run={run.id}
      data-over={isOver}
      aria-selected={isChosen}
      {...drag}
    >
      <td>
        <Facet state={run.state} fraction={run.progress?.fraction ?? 0} title={stateWord(run.state)} />
      </td>
      <td>
        <b>{item.source_name}</b>
      </td>
      <td>{item.preset_name}</td>
      <td className="quiet">{item.origin_name}</td>
      <td title={where(item)}>{where(item)}</td>
      <td>{progress && progress.speed > 0 ? `${progress.speed.toFixed(progress.speed < 1 ? 2 : 1)}×` : ""}</td>
      <td>{progress?.remaining == null ? "" : spanText(progress.remaining)}</td>
      <td className="acts">
        {ACTS.filter(({ fits }) => fits(run)).map(({ action, name }) => (
          <button
            key={action}
            type="button"
            onClick={() => {
              onAct(action);
            }}
          >
            {name}
          </button>
        ))}
      </td>
    </tr>
  );
}

/** What can be done with a run, by its state. */
const ACTS: { action: RunAction; name: string; fits: (run: QueueItem["run"]) => boolean }[] = [
  { action: "resume", name: "Go on", fits: ({ state }) => state === "paused" },
  { action: "pause", name: "Hold", fits: ({ state }) => state === "running" || state === "waiting" },
  { action: "cancel", name: "Cancel", fits: isOpen },
  { action: "retry", name: "Retry", fits: ({ state }) => state === "failed" || state === "cancelled" },
];
