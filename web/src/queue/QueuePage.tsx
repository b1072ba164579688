/** The queue: when the night will be over, and what is worked on in which order. Only rows in sight are loaded and drawn. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { styled } from "@mui/material/styles";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type DragEvent, type MouseEvent, useLayoutEffect, useRef, useState } from "react";
import { api, type QueueItem, type Storage } from "../api/client";
import { keys } from "../api/live";
import { useActions } from "../shared/actions";
import { Bar } from "../shared/Bar";
import { useMayCancel } from "../shared/cancelling";
import { Facet } from "../shared/Facet";
import { useTell } from "../shared/messages";
import { useNow } from "../shared/now";
import { clipped } from "../shared/theme";
import { clockText, isOpen, plural, spanText, stateWord } from "../shared/words";
import { Night } from "./Night";
import { useQueueHead, useQueueRows, useRowPlaces } from "./rows";
import { Undecided } from "./Undecided";
import { where } from "./where";

type RunAction = "pause" | "resume" | "cancel" | "retry";

const ROW = 38;

interface Chosen {
  run: string;
  place: number;
}

export default function QueuePage() {
  const [sheet, setSheet] = useState<string | null>(null);
  const { data: sheets = [] } = useQuery({ queryKey: keys.sheets, queryFn: api.sheets });
  const { data: queue, error } = useQueueHead(sheet);
  const { data: storages = [] } = useQuery({ queryKey: keys.storages, queryFn: api.storages });
  const { data: night, dataUpdatedAt } = useQuery({ queryKey: keys.night, queryFn: api.night, staleTime: 0 });
  const { refuse } = useTell();
  const client = useQueryClient();
  const { rowAt, placeOf } = useRowPlaces(sheet);
  const [chosen, setChosen] = useState<Chosen | null>(null);
  // Runs that are chosen beside the one at which the arrows are.
  const [others, setOthers] = useState<ReadonlyMap<string, QueueItem["run"]>>(new Map());
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
  const rows = useQueueRows(sheet, inSight[0]?.index ?? 0, inSight.at(-1)?.index ?? 0);
  const open = queue ? queue.at_work + queue.held + queue.waiting : 0;
  const firstWaiting = queue ? queue.at_work + queue.held : 0;
  const act = (action: RunAction, runs: string[] | null) => {
    api.act(action, runs).catch(refuse);
  };
  const mayCancel = useMayCancel();
  const cancel = async (runs: QueueItem["run"][]) => {
    if (await mayCancel(runs))
      act(
        "cancel",
        runs.map((run) => run.id),
      );
  };
  const move = async (runs: string[], before: string | null) => {
    try {
      await api.moveRuns(runs, before);
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
    await move([chosen.run], before?.run.state === "waiting" ? before.run.id : null);
  };
  const choose = (run: string, place: number) => {
    setChosen({ run, place });
    setOthers(new Map());
  };
  /** One run more, or less where it was chosen. */
  const toggle = (item: QueueItem, place: number) => {
    const next = new Map(others);
    const here = chosen ? rows.get(chosen.place)?.run : undefined;
    if (here) next.set(here.id, here);
    if (!next.delete(item.run.id)) next.set(item.run.id, item.run);
    setChosen({ run: item.run.id, place });
    setOthers(next);
  };
  /** All runs from the chosen one to this place. */
  const extend = async (place: number) => {
    const from = chosen?.place ?? place;
    const places = Array.from({ length: Math.abs(place - from) + 1 }, (_, step) => Math.min(place, from) + step);
    const found = await Promise.all(places.map(rowAt));
    setOthers(new Map(found.flatMap((item) => (item ? [[item.run.id, item.run] as const] : []))));
  };
  const pick = (event: MouseEvent) => {
    const target = event.target as Element;
    const row = target.closest<HTMLTableRowElement>("tr[data-run]");
    if (!row?.dataset.run || target.closest("button")) return;
    const place = Number(row.getAttribute("aria-rowindex")) - 2;
    const item = rows.get(place);
    if (event.shiftKey) void extend(place);
    else if (item && (event.ctrlKey || event.metaKey)) toggle(item, place);
    else choose(row.dataset.run, place);
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
  // What an action goes to: the runs that are chosen, as they are now.
  const all = new Map(others);
  if (chosenItem && (all.size === 0 || all.has(chosenItem.run.id))) all.set(chosenItem.run.id, chosenItem.run);
  for (const item of rows.values()) if (all.has(item.run.id)) all.set(item.run.id, item.run);
  const meant = [...all.values()];
  const forMeant = (name: string, key: string, does: RunAction, fits: (run: QueueItem["run"]) => boolean) => ({
    name: `${name} the chosen runs`,
    key,
    enabled: meant.some(fits),
    run: () => {
      const runs = meant.filter(fits);
      if (does === "cancel") void cancel(runs);
      else
        act(
          does,
          runs.map((run) => run.id),
        );
    },
  });
  const waiting = meant.filter((run) => run.state === "waiting").map((run) => run.id);
  useActions([
    {
      name: "Hold all",
      key: "H",
      enabled: (queue?.at_work ?? 0) + (queue?.waiting ?? 0) > 0,
      run: () => {
        act("pause", null);
      },
    },
    {
      name: "Resume all",
      key: "G",
      enabled: (queue?.held ?? 0) > 0,
      run: () => {
        act("resume", null);
      },
    },
    { name: "Choose the run above", key: "ArrowUp", enabled: count > 0, run: () => void step(-1) },
    { name: "Choose the run below", key: "ArrowDown", enabled: count > 0, run: () => void step(1) },
    {
      name: "Choose the run below as well",
      key: "x",
      enabled: count > 0,
      run: () => {
        const place = Math.min((chosen?.place ?? -1) + 1, count - 1);
        void rowAt(place).then((item) => {
          if (item) toggle(item, place);
        });
      },
    },
    {
      name: "Move the chosen runs to the front",
      key: "f",
      enabled: waiting.length > 0,
      run: () =>
        void rowAt(firstWaiting).then((first) =>
          first && !waiting.includes(first.run.id) ? move(waiting, first.run.id) : moveTo(firstWaiting),
        ),
    },
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
    {
      name: "Move the chosen runs to the end",
      key: "e",
      enabled: waiting.length > 0,
      run: () => void move(waiting, null),
    },
    ...ACTS.map(({ action, name, key, fits }) => forMeant(name, key, action, fits)),
  ]);
  const left = night?.all_done_in ?? null;
  const head = () => {
    if (!queue || !night) return error ? "The queue could not be loaded." : "Loading …";
    if (open === 0) return "Queue is empty.";
    if (left === null) return "All is held.";
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
      // Those that are chosen go with the one that is drawn.
      const drawn = waiting.includes(run) ? waiting : [run];
      if (run && !drawn.includes(item.run.id)) void move(drawn, item.run.id);
    },
  });
  const before = (inSight[0]?.start ?? above) - above;
  const behind = Math.max(0, view.getTotalSize() - ((inSight.at(-1)?.end ?? above) - above));
  return (
    <>
      <Bar title="Queue" detail={queue && `${plural(open, "run")} open`}>
        {meant.length > 1 &&
          ACTS.filter(({ fits }) => meant.some(fits)).map(({ action, name, key, fits }) => (
            <Button key={action} color="inherit" variant="outlined" onClick={forMeant(name, key, action, fits).run}>
              {name} {meant.filter(fits).length}
            </Button>
          ))}
        <TextField
          select
          size="small"
          label="Sheet"
          value={sheet ?? ""}
          onChange={(event) => {
            setSheet(event.target.value === "" ? null : event.target.value);
            setChosen(null);
            setOthers(new Map());
          }}
          sx={{ minWidth: 180 }}
        >
          <MenuItem value="">all</MenuItem>
          {sheets.map((one) => (
            <MenuItem key={one.id} value={one.id}>
              {one.name}
            </MenuItem>
          ))}
        </TextField>
        {queue && queue.held > 0 && (
          <Button
            color="inherit"
            variant="outlined"
            title="Resume all (Shift+G)"
            onClick={() => {
              act("resume", null);
            }}
          >
            Resume all
          </Button>
        )}
        {queue && queue.at_work + queue.waiting > 0 && (
          <Button
            color="inherit"
            variant="outlined"
            title="Hold all (Shift+H)"
            onClick={() => {
              act("pause", null);
            }}
          >
            Hold all
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
              <th style={{ width: "12%" }}>Sheet or folder</th>
              <th>Progress</th>
              <th style={{ width: 80 }}>Speed</th>
              <th style={{ width: 110 }}>Time left</th>
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
                  isChosen={item.run.id === chosen?.run || others.has(item.run.id)}
                  before={index - firstWaiting}
                  storages={storages}
                  isOver={item.run.id === over}
                  onAct={(action) => {
                    if (action === "cancel") void cancel([item.run]);
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
  minWidth: 880,
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
  return `${spanText(Math.max(0, seconds - (now - since) / 1000))} of work on ${plural(lanes, "job slot")}`;
}

/** Room for rows that are not drawn. */
function Gap({ height }: { height: number }) {
  return (
    <tr aria-hidden={true}>
      <td colSpan={8} style={{ height, padding: 0, border: 0 }} />
    </tr>
  );
}

interface RowProps {
  item: QueueItem;
  place: number;
  isChosen: boolean;
  isOver: boolean;
  /** How many others are to be begun before it. */
  before: number;
  storages: Storage[];
  onAct: (action: RunAction) => void;
  drag: object;
}

function Row({ item, place, isChosen, isOver, before, storages, onAct, drag }: RowProps) {
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
      <td title={where(item, before, storages)}>{where(item, before, storages)}</td>
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
const ACTS: { action: RunAction; name: string; key: string; fits: (run: QueueItem["run"]) => boolean }[] = [
  { action: "resume", name: "Resume", key: "g", fits: ({ state }) => state === "paused" },
  { action: "pause", name: "Hold", key: "h", fits: ({ state }) => state === "running" || state === "waiting" },
  { action: "cancel", name: "Cancel", key: "c", fits: isOpen },
  { action: "retry", name: "Retry", key: "y", fits: ({ state }) => state === "failed" || state === "cancelled" },
];
