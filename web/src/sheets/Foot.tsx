/** The foot of a sheet: how far it is, what it weighs, and the one big action. */
import Button from "@mui/material/Button";
import { styled } from "@mui/material/styles";
import { useQueryClient } from "@tanstack/react-query";
import { memo, useEffect, useRef } from "react";
import type { Cell, Sheet } from "../api/client";
import { keys } from "../api/live";
import { Facet } from "../shared/Facet";
import { useTell } from "../shared/messages";
import { notify } from "../shared/notices";
import { useNow } from "../shared/now";
import { changeText, clockText, plural, sizeText, spanText } from "../shared/words";
import { sums } from "./totals";
import type { RunAction } from "./work";

const Line = styled("footer")(({ theme: { breakpoints, palette, spacing } }) => ({
  flex: "none",
  minHeight: 58,
  padding: spacing(0.5, 2.5),
  display: "flex",
  flexWrap: "wrap",
  alignItems: "center",
  rowGap: spacing(1),
  columnGap: spacing(2),
  [breakpoints.up("lg")]: { columnGap: spacing(4) },
  borderTop: `1px solid ${palette.divider}`,
  background: palette.background.paper,
  "& .figure": { minWidth: 0, whiteSpace: "nowrap", color: palette.text.secondary, fontSize: 13 },
  "& .figure b": { display: "block", color: palette.text.primary, fontSize: 15, lineHeight: 1.25 },
  "& .rest": { flex: 1 },
}));

const Run = styled(Button)({ height: 36, minWidth: 150, fontSize: 15 });

interface FootProps {
  sheet: Sheet;
  ready: number;
  onRun: () => void;
  onAct: (action: RunAction, cells: Cell[]) => void;
}

export function Foot({ sheet, ready, onRun, onAct }: FootProps) {
  const now = useNow();
  const { all: sum, open } = sums(sheet);
  const held = open.filter((cell) => cell.run?.state === "paused").length;
  const state =
    sum.wanted > 0 && sum.done === sum.wanted
      ? "done"
      : sum.working > 0
        ? "running"
        : sum.failed > 0
          ? "failed"
          : sum.withheld > 0
            ? "withheld"
            : sum.outOfDate > 0
              ? "outOfDate"
              : "idle";
  const parts = [
    sum.working > 0 && `${String(sum.working)} running`,
    sum.waiting > 0 && `${String(sum.waiting)} waiting`,
    sum.held > 0 && `${String(sum.held)} held`,
    sum.failed > 0 && `${String(sum.failed)} failed`,
    sum.withheld > 0 && `${String(sum.withheld)} withheld until you decide`,
    sum.outOfDate > 0 && `${String(sum.outOfDate)} out of date`,
  ].filter(Boolean);
  return (
    <Line>
      <Facet state={state} fraction={sum.fraction} size={34} />
      <Figure
        head={`${String(sum.done)} of ${plural(sum.wanted, "file")} done`}
        detail={parts.join(" · ") || (sum.wanted === 0 ? "add sources and deliverables" : "idle")}
        testid="progress"
      />
      <Figure
        head={`${sizeText(sum.before)} → ${sum.done === sum.wanted ? "" : "≈ "}${sizeText(sum.after)}`}
        detail={
          sum.before > 0
            ? `${changeText(sum.before, sum.after)} over all files${sum.done > 0 ? `, forecast ${sizeText(sum.expected)}` : ""}`
            : ""
        }
        testid="weight"
      />
      {sum.left > 0 && (
        <Figure
          head={`about ${spanText(sum.left)} to go`}
          detail={`those running end at about ${clockText(new Date(now + sum.left * 1000))}`}
        />
      )}
      <span className="rest" />
      <Actions
        sheet={sheet.id}
        held={held}
        moving={open.length - held}
        ready={ready}
        wanted={sum.wanted}
        onRun={onRun}
        onAct={onAct}
      />
    </Line>
  );
}

interface ActionsProps {
  /** Its id. */
  sheet: string;
  held: number;
  moving: number;
  ready: number;
  wanted: number;
  onRun: () => void;
  onAct: (action: RunAction, cells: Cell[]) => void;
}

/** What can be done with all that is under way, and the one big action. */
const Actions = memo(function Actions({ sheet, held, moving, ready, wanted, onRun, onAct }: ActionsProps) {
  const client = useQueryClient();
  const act = (action: RunAction, which: (state: string | undefined) => boolean) => {
    const now = client.getQueryData<Sheet>(keys.sheet(sheet));
    if (now)
      onAct(
        action,
        sums(now).open.filter((cell) => which(cell.run?.state)),
      );
  };
  const doing: [string, RunAction, number, (state: string | undefined) => boolean][] = [
    ["Resume", "resume", held, (state) => state === "paused"],
    ["Hold", "pause", moving, (state) => state !== "paused"],
    ["Cancel", "cancel", held + moving, () => true],
  ];
  return (
    <>
      {doing
        .filter(([, , count]) => count > 0)
        .map(([name, action, , which]) => (
          <Button
            key={name}
            color="inherit"
            variant="outlined"
            onClick={() => {
              act(action, which);
            }}
          >
            {name}
          </Button>
        ))}
      <Run variant="contained" disabled={ready === 0} onClick={onRun} title="Run the sheet (Shift+R)" data-testid="run">
        {ready === 0
          ? "Nothing to run"
          : ready === wanted
            ? `Run ${plural(ready, "file")}`
            : `Run remaining ${String(ready)}`}
      </Run>
    </>
  );
});

function Figure({ head, detail, testid }: { head: string; detail: string; testid?: string }) {
  return (
    <div className="figure" data-testid={testid}>
      <b>{head}</b>
      <div>{detail}</div>
    </div>
  );
}

/** Tells when the last run of a sheet has ended. */
export function useBatchNotice(sheet: Sheet) {
  const wasOpen = useRef(false);
  const { tell } = useTell();
  useEffect(() => {
    const isWorking = sums(sheet).open.length > 0;
    if (wasOpen.current && !isWorking) {
      const sum = sums(sheet).all;
      const text = `${sheet.name}: ${plural(sum.done, "file")} done${sum.failed > 0 ? `, ${String(sum.failed)} failed` : ""}.`;
      tell(text);
      notify(text);
    }
    wasOpen.current = isWorking;
  }, [sheet, tell]);
}
