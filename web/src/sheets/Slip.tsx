/** The slip: the plan of the chosen output in sentences, and what came out. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { api, type Cell, type CellKey, type Output, type Sheet } from "../api/client";
import { keys } from "../api/live";
import { Facet } from "../shared/Facet";
import { useTell } from "../shared/messages";
import { changeText, isOpen, sizeText, stateWord } from "../shared/words";

interface Props {
  sheet: Sheet;
  cell: CellKey;
  onClose: () => void;
  onRun: (cells: CellKey[]) => void;
  onToggle: (cells: Cell[]) => void;
}

const SUBJECTS: Record<string, string> = { frame_rate: "Frame rate" };

function subject(word: string): string {
  return SUBJECTS[word] ?? word.charAt(0).toUpperCase() + word.slice(1);
}

export function Slip({ sheet, cell: key, onClose, onRun, onToggle }: Props) {
  const { data: output, refetch } = useQuery({ queryKey: keys.output(key.source, key.deliverable), queryFn: () => api.output(key), staleTime: 0 });
  const { refuse } = useTell();
  const source = sheet.sources.find((source) => source.id === key.source);
  const deliverable = sheet.deliverables.find((deliverable) => deliverable.id === key.deliverable);
  const cell = sheet.cells.find((cell) => cell.source === key.source && cell.deliverable === key.deliverable);
  const state = cell?.run?.state;
  useEffect(() => {
    void refetch();
  }, [state, refetch]);
  if (!source || !deliverable || !cell) return null;
  const { run } = cell;
  const act = (action: "pause" | "resume" | "cancel") => {
    if (run) api.act(action, [run.id]).catch(refuse);
  };
  return (
    <Box component="aside" aria-label="Plan of the chosen output" data-testid="slip" sx={{ width: 400, flex: "none", overflow: "auto", borderLeft: 1, borderColor: "divider", bgcolor: "background.paper", p: 2 }}>
      <Box sx={{ display: "flex", alignItems: "flex-start", gap: 1.25 }}>
        <Facet state={state ?? (cell.enabled ? "idle" : "off")} fraction={run?.progress?.fraction ?? 0} size={28} />
        <Box sx={{ minWidth: 0, flex: 1 }}>
          <Box sx={{ fontWeight: 700, fontSize: 15 }}>{deliverable.preset.name}</Box>
          <Box sx={{ color: "text.secondary", overflowWrap: "anywhere" }}>of {source.name}</Box>
        </Box>
        <Button color="inherit" onClick={onClose} aria-label="Close the slip">
          Close
        </Button>
      </Box>
      <Box sx={{ display: "flex", gap: 1, my: 1.5 }}>
        {!isOpen(run) && output?.plan && (
          <Button variant="outlined" onClick={() => { onRun([key]); }}>
            {run ? "Run again" : "Run this one"}
          </Button>
        )}
        {run && isOpen(run) && (run.state === "paused" ? <Button variant="outlined" onClick={() => { act("resume"); }}>Go on</Button> : <Button variant="outlined" onClick={() => { act("pause"); }}>Hold</Button>)}
        {run && isOpen(run) && <Button variant="outlined" color="inherit" onClick={() => { act("cancel"); }}>Cancel</Button>}
        <Button color="inherit" onClick={() => { onToggle([cell]); }}>{cell.enabled ? "Switch off" : "Switch on"}</Button>
      </Box>
      {run?.problem && (
        <Box sx={{ border: 1, borderColor: "error.main", borderRadius: 2, p: 1.25, mb: 1.5 }}>
          <Box sx={{ fontWeight: 600 }}>{run.problem.what}</Box>
          <Box>Why: {run.problem.why}.</Box>
          <Box sx={{ color: "text.secondary" }}>{run.problem.next}</Box>
          {run.problem.details && (
            <Box component="details" sx={{ color: "text.secondary", fontSize: 12, overflowWrap: "anywhere" }}>
              <summary>technical details</summary>
              {run.problem.details}
            </Box>
          )}
        </Box>
      )}
      {output && <Made output={output} sourceSize={source.size ?? 0} />}
      {output?.refusal && <Box sx={{ color: "text.secondary", mb: 1.5 }}>Nothing can be made here: {output.refusal}.</Box>}
      {output?.plan && (
        <>
          <Heading>What is done, and why</Heading>
          {output.plan.decisions.map((decision, place) => (
            <Box key={place} sx={{ mb: 0.9 }}>
              <Box component="span" sx={{ fontWeight: 600 }}>{subject(decision.subject)}</Box>
              {decision.origin === "editor" && <Box component="span" sx={{ color: "primary.main" }}> your own setting</Box>}
              <Box component="span">: {decision.what}, </Box>
              <Box component="span" sx={{ color: "text.secondary" }}>because {decision.because}.</Box>
            </Box>
          ))}
          <Heading>Forecast</Heading>
          <Box>
            {sizeText(output.plan.forecast.size)} — picture {sizeText(output.plan.forecast.picture)}, sound {sizeText(output.plan.forecast.sound)}, container {sizeText(output.plan.forecast.overhead)}
          </Box>
          <Box sx={{ color: "text.secondary" }}>
            {output.plan.forecast.certainty === "rated" ? "From the rates: within a few percent." : "From a model of such material: it may be off by half."}
          </Box>
          <Heading>Name</Heading>
          <Box sx={{ overflowWrap: "anywhere" }}>
            {deliverable.storage ? `${deliverable.folder}/` : ""}
            {output.name}
          </Box>
        </>
      )}
    </Box>
  );
}

function Heading({ children }: { children: React.ReactNode }) {
  return <Box component="h2" sx={{ fontSize: 12, fontWeight: 600, color: "text.secondary", mt: 2, mb: 0.75 }}>{children}</Box>;
}

/** What came out: the check, and both facts side by side. */
function Made({ output, sourceSize }: { output: Output; sourceSize: number }) {
  const { run, report, comparison } = output;
  if (run?.state !== "done" || !report) return run ? <Box sx={{ color: "text.secondary", mb: 1 }}>{stateWord(run.state)}</Box> : null;
  return (
    <>
      <Box sx={{ fontSize: 22, fontWeight: 700 }}>
        {sizeText(sourceSize)} → {sizeText(run.size ?? 0)} <Box component="span" sx={{ color: "success.main" }}>{changeText(sourceSize, run.size ?? 0)}</Box>
      </Box>
      <Box sx={{ color: "text.secondary", mb: 1, overflowWrap: "anywhere" }}>
        {run.path} · all {report.items.length} points of its plan checked
      </Box>
      <Box component="video" controls preload="metadata" src={`/api/runs/${run.id}/media`} sx={{ width: "100%", maxHeight: 210, bgcolor: "#000", borderRadius: 1 }} />
      <Heading>Source and output</Heading>
      <Box component="table" sx={{ width: "100%", borderCollapse: "collapse", fontSize: 12, "& td": { py: 0.3, pr: 1, verticalAlign: "top", overflowWrap: "anywhere" } }}>
        <tbody>
          {comparison.map((item) => (
            <Box component="tr" key={item.what} sx={{ color: item.passed ? "text.secondary" : "text.primary" }}>
              <td>{item.what}</td>
              <td>{item.expected}</td>
              <Box component="td" sx={{ fontWeight: item.passed ? 400 : 700 }}>{item.found}</Box>
            </Box>
          ))}
        </tbody>
      </Box>
    </>
  );
}
