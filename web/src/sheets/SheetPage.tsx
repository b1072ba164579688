/** One sheet: the matrix, its totals, and the one big action. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { useParams } from "react-router";
import { api, type Cell, type CellKey, type Sheet } from "../api/client";
import { keys } from "../api/live";
import { Bar, Key } from "../shared/Bar";
import { Facet } from "../shared/Facet";
import { useTell } from "../shared/messages";
import { useNow } from "../shared/now";
import { changeText, clockText, isOpen, plural, sizeText, spanText } from "../shared/words";
import { DeliverableDialog } from "./DeliverableDialog";
import { Matrix } from "./Matrix";
import { Slip } from "./Slip";
import { SourcesDialog } from "./SourcesDialog";
import { runnable, totals } from "./totals";

type Open = "sources" | "deliverable" | null;

export function SheetPage() {
  const { id = "" } = useParams();
  const { data: sheet, error } = useQuery({ queryKey: keys.sheet(id), queryFn: () => api.sheet(id) });
  const [open, setOpen] = useState<Open>(null);
  const [chosen, setChosen] = useState<CellKey | null>(null);
  const [slipOpen, setSlipOpen] = useState(false);
  const client = useQueryClient();
  const { tell, refuse } = useTell();
  useBatchNotice(sheet);

  const attempt = useCallback(
    async (work: () => Promise<unknown>) => {
      try {
        await work();
      } catch (error) {
        refuse(error);
      }
    },
    [refuse],
  );

  const toggle = useCallback(
    (cells: Cell[]) => {
      const enabled = !cells.every((cell) => cell.enabled);
      const changed = new Set(cells.map((cell) => `${cell.source} ${cell.deliverable}`));
      // Shown at once; the server's answer comes as an event.
      client.setQueryData<Sheet>(keys.sheet(id), (sheet) =>
        sheet && { ...sheet, cells: sheet.cells.map((cell) => (changed.has(`${cell.source} ${cell.deliverable}`) ? { ...cell, enabled } : cell)) },
      );
      void attempt(() => api.setCells(id, cells.map(({ source, deliverable }) => ({ source, deliverable })), { enabled }));
    },
    [attempt, client, id],
  );

  const run = useCallback(
    (cells?: CellKey[]) =>
      void attempt(async () => {
        const { runs } = await api.run(id, cells);
        tell(runs.length === 0 ? "Nothing to run here." : `${plural(runs.length, "file")} queued.`);
        await client.invalidateQueries({ queryKey: keys.sheet(id) });
      }),
    [attempt, client, id, tell],
  );

  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      if (open || event.ctrlKey || event.metaKey || event.altKey || target.closest("input, textarea, [role=dialog]")) return;
      if (event.key === "s") setOpen("sources");
      else if (event.key === "d") setOpen("deliverable");
      else if (event.key === "Escape") setSlipOpen(false);
      else return;
      event.preventDefault();
    };
    window.addEventListener("keydown", press);
    return () => {
      window.removeEventListener("keydown", press);
    };
  }, [open]);

  if (error) return <Box sx={{ m: "auto", color: "text.secondary" }}>{error.message}</Box>;
  if (!sheet) return <Box sx={{ m: "auto" }}><Facet state="waiting" size={34} title="Loading" /></Box>;
  return (
    <>
      <Bar title={sheet.name} detail={`${plural(sheet.sources.length, "source")} × ${plural(sheet.deliverables.length, "deliverable")}`}>
        <Button color="inherit" onClick={() => { setOpen("sources"); }} data-testid="add-sources">
          Add sources<Key>S</Key>
        </Button>
        <Button color="inherit" onClick={() => { setOpen("deliverable"); }} data-testid="add-deliverable">
          Add a deliverable<Key>D</Key>
        </Button>
      </Bar>
      <Box sx={{ flex: 1, minHeight: 0, display: "flex" }}>
        <Matrix
          sheet={sheet}
          chosen={chosen}
          onChoose={setChosen}
          onOpen={(cell) => {
            setChosen(cell);
            setSlipOpen(true);
          }}
          onToggle={toggle}
          onAdd={setOpen}
        />
        {slipOpen && chosen && <Slip sheet={sheet} cell={chosen} onClose={() => { setSlipOpen(false); }} onRun={run} onToggle={toggle} />}
      </Box>
      <Foot sheet={sheet} onRun={() => { run(); }} onAct={(action, runs) => void attempt(() => api.act(action, runs))} />
      {open === "sources" && <SourcesDialog sheet={sheet.id} onClose={() => { setOpen(null); }} />}
      {open === "deliverable" && <DeliverableDialog sheet={sheet.id} onClose={() => { setOpen(null); }} />}
    </>
  );
}

interface FootProps {
  sheet: Sheet;
  onRun: () => void;
  onAct: (action: "pause" | "resume" | "cancel", runs: string[]) => void;
}

function Foot({ sheet, onRun, onAct }: FootProps) {
  const now = useNow();
  const sum = useMemo(() => totals(sheet), [sheet]);
  const ready = useMemo(() => runnable(sheet).length, [sheet]);
  const open = sheet.cells.map((cell) => cell.run).filter(isOpen);
  const moving = open.filter((run) => run.state !== "paused");
  const held = open.filter((run) => run.state === "paused");
  const state = sum.wanted > 0 && sum.done === sum.wanted ? "done" : sum.working > 0 ? "running" : sum.failed > 0 ? "failed" : "idle";
  const parts = [
    sum.working > 0 && `${String(sum.working)} at work`,
    sum.waiting > 0 && `${String(sum.waiting)} waiting`,
    sum.held > 0 && `${String(sum.held)} held`,
    sum.failed > 0 && `${String(sum.failed)} failed`,
  ].filter(Boolean);
  return (
    <Box component="footer" sx={{ flex: "none", height: 58, px: 2.5, gap: 4, display: "flex", alignItems: "center", borderTop: 1, borderColor: "divider", bgcolor: "background.paper" }}>
      <Facet state={state} fraction={sum.fraction} size={34} />
      <Figure head={`${String(sum.done)} of ${plural(sum.wanted, "file")} done`} detail={parts.join(" · ") || (sum.wanted === 0 ? "add sources and deliverables" : "nothing under way")} testid="progress" />
      <Figure head={`${sizeText(sum.before)} → ${sum.done === sum.wanted ? "" : "≈ "}${sizeText(sum.after)}`} detail={sum.before > 0 ? `${changeText(sum.before, sum.after)} over all files` : ""} testid="weight" />
      {sum.left > 0 && <Figure head={`about ${spanText(sum.left)} to go`} detail={`those at work end at about ${clockText(new Date(now + sum.left * 1000))}`} />}
      <Box sx={{ flex: 1 }} />
      {held.length > 0 && <Button color="inherit" variant="outlined" onClick={() => { onAct("resume", held.map((run) => run.id)); }}>Go on</Button>}
      {moving.length > 0 && <Button color="inherit" variant="outlined" onClick={() => { onAct("pause", moving.map((run) => run.id)); }}>Hold</Button>}
      {open.length > 0 && <Button color="inherit" variant="outlined" onClick={() => { onAct("cancel", open.map((run) => run.id)); }}>Cancel</Button>}
      <Button variant="contained" disabled={ready === 0} onClick={onRun} sx={{ height: 36, minWidth: 150, fontSize: 15 }} data-testid="run">
        {ready === 0 ? "Nothing to run" : ready === sum.wanted ? `Run ${plural(ready, "file")}` : `Run the other ${String(ready)}`}
      </Button>
    </Box>
  );
}

function Figure({ head, detail, testid }: { head: string; detail: string; testid?: string }) {
  return (
    <Box data-testid={testid}>
      <Box sx={{ fontWeight: 700, fontSize: 15, lineHeight: 1.25 }}>{head}</Box>
      <Box sx={{ color: "text.secondary", fontSize: 13 }}>{detail}</Box>
    </Box>
  );
}

/** Tells in the browser when the last run of a sheet has ended. */
function useBatchNotice(sheet: Sheet | undefined) {
  const wasOpen = useRef(false);
  const { tell } = useTell();
  useEffect(() => {
    if (!sheet) return;
    const isWorking = sheet.cells.some((cell) => isOpen(cell.run));
    if (wasOpen.current && !isWorking) {
      const sum = totals(sheet);
      const text = `${sheet.name}: ${plural(sum.done, "file")} done${sum.failed > 0 ? `, ${String(sum.failed)} failed` : ""}.`;
      tell(text);
      if ("Notification" in window && Notification.permission === "granted") new Notification("Beryl", { body: text, icon: "/facet.svg" });
    }
    if (isWorking && "Notification" in window && Notification.permission === "default") void Notification.requestPermission();
    wasOpen.current = isWorking;
  }, [sheet, tell]);
}
