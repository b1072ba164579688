/** One output: its plan in sentences with reasons, and once it is made, itself beside its source. */
import { styled } from "@mui/material/styles";
import Box from "@mui/material/Box";
import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { api, type Cell, type Deliverable, type Output, type SourceRow } from "../api/client";
import { keys } from "../api/live";
import { countOf } from "../shared/timecode";
import { changeText, plural, sizeText, stateWord } from "../shared/words";
import { Decide } from "../shared/Decide";
import { Decisions } from "./Decisions";
import { MadeFiles } from "./MadeFiles";
import { Pair } from "./Pair";
import { Heading } from "./SlipParts";
import { weightTaken } from "./totals";

const CERTAINTY: Record<NonNullable<Output["plan"]>["forecast"]["certainty"], string> = {
  fixed: "Fixed by the format: within one percent.",
  ceiling: "A ceiling: easy pictures take less.",
  sampled: "From proofs of these very settings: within twelve percent.",
  modelled:
    "From a model of such material: mostly half to two and a half times this, in 19 of 20 files between a tenth and five times. A proof tells more.",
  unknown: "The source does not tell how long it is.",
};
const SHARED: Record<Deliverable["clash"], string> = {
  number: "The one that is finished last gets a number.",
  skip: "The one that is finished last is skipped.",
  replace: "Neither is made, since each would replace the other: put the preset into the name pattern of one.",
};

const Differences = styled("table")(({ theme: { spacing } }) => ({
  width: "100%",
  borderCollapse: "collapse",
  fontSize: 12,
  "& td": { padding: spacing(0.3, 1, 0.3, 0), verticalAlign: "top", overflowWrap: "anywhere" },
}));

export function CellSlip({ cell, source, column }: { cell: Cell; source: SourceRow; column: Deliverable }) {
  const { data: output, refetch } = useQuery({
    queryKey: keys.output(cell.source, cell.deliverable),
    queryFn: () => api.output(cell),
    staleTime: 0,
  });
  const { run } = cell;
  const state = run?.state;
  useEffect(() => {
    void refetch();
  }, [state, refetch]);
  return (
    <>
      {run?.problem && (
        <Box sx={{ border: 1, borderColor: "error.main", borderRadius: 2, p: 1.25, mb: 1.5 }}>
          <Box sx={{ fontWeight: 600, "&::first-letter": { textTransform: "uppercase" } }}>{run.problem.what}</Box>
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
      {run?.state === "withheld" && <Decide run={run.id} where="Look at it below, beside its source." />}
      {output && <Made output={output} source={source} />}
      {output?.refusal && (
        <Box sx={{ color: "text.secondary", mb: 1.5 }}>Nothing can be made here: {output.refusal}.</Box>
      )}
      {output?.plan && (
        <>
          <Decisions decisions={output.plan.decisions} />
          <Heading>Forecast</Heading>
          <Box>
            {sizeText(output.plan.forecast.size)} — picture {sizeText(output.plan.forecast.picture)}, sound{" "}
            {sizeText(output.plan.forecast.sound)}, container {sizeText(output.plan.forecast.overhead)}
          </Box>
          <Box sx={{ color: "text.secondary" }}>{CERTAINTY[output.plan.forecast.certainty]}</Box>
          <Heading>Name</Heading>
          <Box sx={{ overflowWrap: "anywhere" }}>
            {column.storage && column.folder ? `${column.folder}/` : ""}
            {output.name}
          </Box>
          {cell.shares_name && (
            <Box sx={{ color: "secondary.main" }}>
              Another output of this sheet gets the same name. {SHARED[column.clash]}
            </Box>
          )}
        </>
      )}
    </>
  );
}

type Report = NonNullable<Output["report"]>;

function verdict(report: Report): string {
  const wrong = report.items.filter((item) => item.grade === "wrong").length;
  const noted = report.items.filter((item) => item.grade === "noted").length;
  if (wrong > 0) return `${String(wrong)} of ${plural(report.items.length, "point")} wrong`;
  return `all ${String(report.items.length)} points of its plan checked${noted > 0 ? `, ${String(noted)} noted` : ""}`;
}

/** What the check noted, and what the source was like. */
function Notes({ report }: { report: Report }) {
  const noted = report.items.filter((item) => item.grade !== "fine");
  if (noted.length === 0 && report.remarks.length === 0) return null;
  return (
    <Box sx={{ mb: 1.5 }} data-notes={true}>
      {noted.map((item) => (
        <Box key={item.what} sx={{ color: item.grade === "wrong" ? "error.main" : "text.primary" }}>
          {item.what.charAt(0).toUpperCase() + item.what.slice(1)}: {item.found} instead of {item.expected}
          {item.why && (
            <Box component="span" sx={{ color: "text.secondary" }}>
              {" "}
              ({item.why})
            </Box>
          )}
        </Box>
      ))}
      {report.remarks.map((remark) => (
        <Box key={remark}>{remark}</Box>
      ))}
    </Box>
  );
}

/** What came out: the check, both files to play, and both facts side by side. */
function Made({ output, source }: { output: Output; source: SourceRow }) {
  const { run, report, comparison } = output;
  if ((run?.state !== "done" && run?.state !== "withheld") || !report)
    return run ? <Box sx={{ color: "text.secondary", mb: 1 }}>{stateWord(run.state)}</Box> : null;
  const before = weightTaken(source);
  const after = run.size ?? 0;
  const expected = output.plan?.forecast.size;
  return (
    <>
      <Box sx={{ fontSize: 22, fontWeight: 700 }}>
        {sizeText(before)} → {sizeText(after)}{" "}
        <Box component="span" sx={{ color: "success.main" }}>
          {changeText(before, after)}
        </Box>
      </Box>
      <MadeFiles run={run} />
      <Box sx={{ color: "text.secondary", mb: 1 }}>
        {verdict(report)}
        {expected != null && ` · forecast ${sizeText(expected)}`}
      </Box>
      {run.released_because && <Box sx={{ mb: 1 }}>Released because: {run.released_because}</Box>}
      <Notes report={report} />
      <Pair source={run.source} run={run.id} count={countOf(output.source)} />
      <Heading>Source and output, differences in bold</Heading>
      <Differences>
        <tbody>
          {comparison.map((item) => (
            <Box
              component="tr"
              key={item.what}
              data-differs={item.grade !== "fine"}
              sx={{ color: item.grade === "fine" ? "text.secondary" : "text.primary" }}
            >
              <td>{item.what}</td>
              <td>{item.expected}</td>
              <Box component="td" sx={{ fontWeight: item.grade === "fine" ? 400 : 700 }}>
                {item.found}
              </Box>
            </Box>
          ))}
        </tbody>
      </Differences>
    </>
  );
}
