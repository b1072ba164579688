/** Proof: a few seconds of an output made by its real plan, beside its source, before the night is spent. */
import { styled } from "@mui/material/styles";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import {
  api,
  type CellKey,
  type CellProofs,
  type Deliverable,
  type Output,
  type Proof,
  type Sheet,
} from "../api/client";
import { keys, sheetAgain } from "../api/live";
import { clamp } from "../bench/position";
import { useActions } from "../shared/actions";
import { Bar, Key } from "../shared/Bar";
import { Facet } from "../shared/Facet";
import { Pending } from "../shared/Pending";
import { useTell } from "../shared/messages";
import { MONO } from "../shared/theme";
import { countOf, timecodeText } from "../shared/timecode";
import { LARGE_PART, NARROW_PART, TWO_PARTS } from "../shared/twoParts";
import { fraction, plural, sizeText, spanText } from "../shared/words";
import { freeId, idFrom } from "../presets/ids";
import { patchAfter, presetWith } from "../sheets/overrides";
import { Heading } from "../sheets/SlipParts";
import { Ask } from "./Ask";
import { Against } from "./Against";
import { type Choice, isSame, isToProve, type Rival, useChoices } from "./against";
import { Compared, type Shown, type Side, type Way } from "./Compared";
import { Curve } from "./Curve";
import { ProofList } from "./ProofList";
import { Strip, type Target } from "./Strip";
import { frameSeconds, strips, type Variant, withoutSteps } from "./variants";

const Transport = styled("div")(({ theme: { spacing } }) => ({
  flex: "none",
  height: 42,
  display: "flex",
  alignItems: "center",
  gap: spacing(1.25),
  padding: spacing(0, 2),
  whiteSpace: "nowrap",
  overflow: "hidden",
}));

const WAYS: { way: Way; name: string }[] = [
  { way: "divider", name: "Divider" },
  { way: "beside", name: "Side by side" },
  { way: "flip", name: "Flip" },
  { way: "difference", name: "Difference" },
];
const ZOOMS = [0, 1, 2, 4, 8];

export default function ProofPage() {
  const { id = "", source = "", deliverable = "" } = useParams();
  const { data: sheet } = useQuery({ queryKey: keys.sheet(id), queryFn: () => api.sheet(id) });
  const {
    data: proofs,
    error,
    refetch,
  } = useQuery({
    queryKey: keys.proofs(source, deliverable),
    queryFn: () => api.proofs({ source, deliverable }),
  });
  const { data: output } = useQuery({
    queryKey: keys.output(source, deliverable),
    queryFn: () => api.output({ source, deliverable }),
  });
  if (!sheet || !proofs || !output) return <Pending error={error} onAgain={() => void refetch()} />;
  return (
    <Loaded
      key={`${source} ${deliverable}`}
      sheet={sheet}
      cell={{ source, deliverable }}
      proofs={proofs}
      output={output}
    />
  );
}

interface LoadedProps {
  sheet: Sheet;
  cell: CellKey;
  proofs: CellProofs;
  output: Output;
}

function Loaded({ sheet, cell, proofs, output }: LoadedProps) {
  const navigate = useNavigate();
  const client = useQueryClient();
  const { tell, refuse } = useTell();
  const [wanted, setWanted] = useState<string | null>(null);
  const [frame, setFrame] = useState(0);
  const [way, setWay] = useState<Way>("divider");
  const [side, setSide] = useState<Side>("made");
  const [zoom, setZoom] = useState(0);
  const [playing, setPlaying] = useState(false);
  const [rival, setRival] = useState<Rival | null>(null);
  const row = sheet.sources.find((one) => one.id === cell.source);
  const column = sheet.deliverables.find((one) => one.id === cell.deliverable);
  const shown =
    proofs.proofs.find((proof) => proof.id === wanted) ??
    proofs.proofs.find((proof) => proof.state === "done") ??
    proofs.proofs[0];
  const made = shown?.state === "done" ? shown.made : null;
  const { data: curve } = useQuery({
    queryKey: keys.proofCurve(shown?.id ?? ""),
    queryFn: () => api.proofCurve(shown?.id ?? ""),
    enabled: made != null,
    staleTime: Infinity,
  });
  const count = countOf(output.source);
  const frames = made?.frames ?? 0;
  const now = Math.min(frame, Math.max(0, frames - 1));
  const seconds = made ? frameSeconds(curve?.frames ?? [], made.frame_rate, now) : 0;
  const sourceSeconds = shown ? sourceTime(shown, seconds * fraction(shown.speed)) : 0;
  const choices = useChoices(sheet, cell, shown);
  const chosen = rival && choices.find((choice) => isSame(choice, rival));
  const other = chosen?.proof?.state === "done" && chosen.proof.made ? chosen.proof : null;
  const pace = shown && other ? fraction(shown.speed) / fraction(other.speed) : 1;
  const { data: otherCurve } = useQuery({
    queryKey: keys.proofCurve(other?.id ?? ""),
    queryFn: () => api.proofCurve(other?.id ?? ""),
    enabled: other !== null,
    staleTime: Infinity,
  });
  const mates = shown?.strip ? proofs.proofs.filter((proof) => proof.strip === shown.strip).reverse() : [];

  const go = (to: number) => {
    setPlaying(false);
    setFrame(clamp(to, 0, Math.max(0, frames - 1)));
  };
  const choose = (proof: Proof) => {
    setPlaying(false);
    // A mate of a strip is looked at at the same frame.
    if (!proof.strip || proof.strip !== shown?.strip) setFrame(0);
    setWanted(proof.id);
  };
  const prove = async (moments: string[], length: number, variants: Variant[], size = false) => {
    try {
      const ids = await api.prove({ sheet: sheet.id, ...cell, moments, seconds: String(length), size, variants });
      await client.invalidateQueries({ queryKey: keys.proofs(cell.source, cell.deliverable) });
      setWanted(ids[0] ?? null);
      setFrame(0);
    } catch (error) {
      refuse(error);
    }
  };
  /** Holds the proof against its source, or against another output, which is proved where it has not been yet. */
  const hold = async (choice: Choice | null) => {
    setPlaying(false);
    setRival(choice && { deliverable: choice.deliverable, label: choice.label });
    if (!shown || !choice || !isToProve(choice)) return;
    const [first, ...more] = shown.parts;
    if (!first) return;
    const length = fraction(first.to) - fraction(first.from);
    try {
      await api.prove({
        sheet: sheet.id,
        source: cell.source,
        deliverable: choice.deliverable,
        moments: more.length > 0 ? [] : [first.from],
        seconds: String(more.length > 0 ? 1 : length),
        size: more.length > 0,
        variants: [{ label: "", overrides: {} }],
      });
      await client.invalidateQueries({ queryKey: keys.proofs(cell.source, choice.deliverable) });
    } catch (error) {
      setRival(null);
      refuse(error);
    }
  };
  const remove = async (proof: Proof) => {
    try {
      await api.removeProof(proof.id);
      await client.invalidateQueries({ queryKey: keys.proofs(cell.source, cell.deliverable) });
    } catch (error) {
      refuse(error);
    }
  };
  const use = async (proof: Proof, target: Target) => {
    const own = proof.overrides;
    try {
      if (target === "output") {
        const before = output.overrides ?? {};
        await api.setCells(sheet.id, [cell], { overrides: patchAfter(before, own) });
        tell(`${proof.label}: set for this output.`, async () => {
          await api.setCells(sheet.id, [cell], { overrides: before });
        });
      } else if (column) {
        const preset = presetWith(column.preset, own);
        if (target === "column") {
          const { storage = null, folder, name_pattern, clash } = column;
          const place = { storage, folder, name_pattern, clash };
          await api.changeDeliverable(column.id, { ...place, preset });
          tell(`${proof.label}: set for the whole column.`, async () => {
            await api.changeDeliverable(column.id, { ...place, preset: column.preset });
          });
        } else {
          const name = `${column.preset.name}, ${proof.label}`;
          const id = freeId(idFrom(name), await api.presets());
          await api.savePreset({ ...preset, id, name });
          await client.invalidateQueries({ queryKey: keys.presets });
          tell(`${name}: kept as a preset.`);
        }
      }
      await sheetAgain(client, sheet.id);
    } catch (error) {
      refuse(error);
    }
  };
  const toggle = () => {
    setPlaying(!playing && made != null);
  };
  const nextWay = () => {
    setWay(WAYS[(WAYS.findIndex((one) => one.way === way) + 1) % WAYS.length]?.way ?? "divider");
  };
  const nearer = (step: number) => {
    setZoom(ZOOMS[clamp(ZOOMS.indexOf(zoom) + step, 0, ZOOMS.length - 1)] ?? 0);
  };
  const second = Math.max(1, Math.round(made ? fraction(made.frame_rate) : 25));
  const valleys = [...(made?.valleys ?? [])].sort((one, other) => one - other);
  useActions([
    {
      name: "One frame on",
      key: "ArrowRight",
      run: () => {
        go(now + 1);
      },
    },
    {
      name: "One frame back",
      key: "ArrowLeft",
      run: () => {
        go(now - 1);
      },
    },
    {
      name: "One second on",
      key: "ArrowUp",
      run: () => {
        go(now + second);
      },
    },
    {
      name: "One second back",
      key: "ArrowDown",
      run: () => {
        go(now - second);
      },
    },
    { name: playing ? "Stop" : "Play", key: " ", enabled: made != null, run: toggle },
    {
      name: "To the next valley of the quality",
      key: "v",
      enabled: valleys.length > 0,
      run: () => {
        go(valleys.find((place) => place > now) ?? valleys[0] ?? 0);
      },
    },
    { name: "Another way of comparing", key: "w", run: nextWay },
    {
      name: "Flip between both pictures",
      key: "f",
      run: () => {
        setWay("flip");
        setSide(side === "made" ? "against" : "made");
      },
    },
    {
      name: "Zoom in",
      key: "+",
      run: () => {
        nearer(1);
      },
    },
    {
      name: "Zoom out",
      key: "-",
      run: () => {
        nearer(-1);
      },
    },
    {
      name: "Prove the moments that are offered",
      key: "p",
      enabled: proofs.moments.length > 0,
      run: () =>
        void prove(
          proofs.moments.map((moment) => moment.at),
          3,
          [{ label: "", overrides: {} }],
        ),
    },
    {
      name: "Estimate total size",
      key: "s",
      enabled: proofs.has_picture,
      run: () => void prove([], 1, [{ label: "", overrides: {} }], true),
    },
    {
      name: "Open the bench of the source",
      key: "b",
      run: () => void navigate(`/sheets/${sheet.id}/sources/${cell.source}`),
    },
    { name: "Back to the sheet", key: "Escape", run: () => void navigate(`/sheets/${sheet.id}`) },
  ]);
  const plan = output.plan;
  const offered = plan ? strips(plan) : [];
  return (
    <>
      <Bar title={`Proof of ${row?.name ?? "a source"}`}>
        <TextField
          select
          size="small"
          value={cell.deliverable}
          onChange={(event) =>
            void navigate(`/sheets/${sheet.id}/proof/${cell.source}/${event.target.value}`, { replace: true })
          }
          slotProps={{ htmlInput: { "aria-label": "Deliverable" } }}
          sx={{ width: 210 }}
        >
          {sheet.deliverables.map((one) => (
            <MenuItem key={one.id} value={one.id}>
              {one.preset.name}
            </MenuItem>
          ))}
        </TextField>
        <Button
          color="inherit"
          onClick={() => void navigate(`/sheets/${sheet.id}/sources/${cell.source}`)}
          title="The bench of the source (B)"
        >
          Bench<Key>B</Key>
        </Button>
        <Button color="inherit" onClick={() => void navigate(`/sheets/${sheet.id}`)} title="Back to the sheet (Esc)">
          Back to the sheet<Key>Esc</Key>
        </Button>
      </Bar>
      <Box sx={TWO_PARTS}>
        <Box sx={LARGE_PART}>
          {shown && made ? (
            <>
              <Compared
                key={shown.id}
                against={
                  other
                    ? shownOf(other, frameAt(otherCurve?.frames ?? [], seconds * pace), chosen?.words ?? "")
                    : { ...shownOf(shown, now, "source"), still: stillOf(shown, now, "source"), half: "upper" }
                }
                made={shownOf(shown, now, other ? nameOf(shown, column) : "proof")}
                pace={pace}
                width={made.width * fraction(made.pixel_aspect)}
                height={made.height}
                way={way}
                side={side}
                zoom={zoom}
                onZoom={setZoom}
                playing={playing}
                start={seconds}
                onMoved={(at) => {
                  setFrame(frameAt(curve?.frames ?? [], at));
                }}
                onStopped={() => {
                  setPlaying(false);
                }}
              />
              <Transport>
                <Button
                  color="inherit"
                  variant="outlined"
                  onClick={toggle}
                  title="Play or stop (Space)"
                  sx={{ minWidth: 56 }}
                  data-testid="play"
                >
                  {playing ? "Stop" : "Play"}
                </Button>
                <Button
                  color="inherit"
                  onClick={() => {
                    go(now - 1);
                  }}
                  title="One frame back (←)"
                  sx={{ minWidth: 32 }}
                >
                  −1
                </Button>
                <Button
                  color="inherit"
                  onClick={() => {
                    go(now + 1);
                  }}
                  title="One frame on (→)"
                  sx={{ minWidth: 32 }}
                >
                  +1
                </Button>
                <Box data-testid="proof-frame" sx={{ color: "text.secondary", fontSize: 12 }}>
                  <Box component="span" sx={{ fontFamily: MONO, fontSize: 13, color: "text.primary" }}>
                    {timecodeText(sourceSeconds, count)}
                  </Box>{" "}
                  · {now + 1} of {frames}
                </Box>
                <Box sx={{ flex: 1 }} />
                <ToggleButtonGroup
                  exclusive
                  size="small"
                  value={way}
                  onChange={(_, value: Way | null) => {
                    if (value) setWay(value);
                  }}
                  aria-label="Way of comparing"
                  sx={{ "& button": { textTransform: "none", py: 0.25, px: 1 } }}
                >
                  {WAYS.map((one) => (
                    <ToggleButton
                      key={one.way}
                      value={one.way}
                      title={one.way === "flip" ? "Flip between both pictures (F)" : `${one.name} (W)`}
                    >
                      {one.name}
                    </ToggleButton>
                  ))}
                </ToggleButtonGroup>
                <TextField
                  select
                  size="small"
                  value={ZOOMS.includes(zoom) ? zoom : -1}
                  onChange={(event) => {
                    setZoom(Number(event.target.value));
                  }}
                  slotProps={{ htmlInput: { "aria-label": "Size" } }}
                  sx={{ width: 96, "& .MuiSelect-select": { py: 0.5 } }}
                >
                  {!ZOOMS.includes(zoom) && <MenuItem value={-1}>{Math.round(zoom * 100)} %</MenuItem>}
                  {ZOOMS.map((one) => (
                    <MenuItem key={one} value={one}>
                      {one === 0 ? "whole" : `${String(one * 100)} %`}
                    </MenuItem>
                  ))}
                </TextField>
              </Transport>
              {curve && <Curve comparison={curve} frame={now} onFrame={go} />}
              {mates.length > 1 && (
                <Strip
                  proofs={mates}
                  chosen={shown.id}
                  frame={now}
                  onChoose={choose}
                  onUse={(proof, target) => void use(proof, target)}
                />
              )}
            </>
          ) : (
            <>
              <Nothing shown={shown} />
              {mates.length > 1 && shown && (
                <Strip
                  proofs={mates}
                  chosen={shown.id}
                  frame={now}
                  onChoose={choose}
                  onUse={(proof, target) => void use(proof, target)}
                />
              )}
            </>
          )}
        </Box>
        <Box component="aside" aria-label="Proofs" data-testid="proofs" sx={NARROW_PART}>
          {shown && made && (
            <Foretold proof={shown} name={other ? nameOf(shown, column) : shown.label || "As planned"} />
          )}
          {shown && made && (
            <Against
              choices={choices}
              rival={rival}
              onChoose={(choice) => void hold(choice)}
              making={chosen?.proof && !other ? chosen.proof : null}
            />
          )}
          {other && <Foretold proof={other} name={chosen?.words ?? ""} />}
          <Ask
            proofs={proofs}
            count={count}
            strips={offered}
            without={plan ? withoutSteps(plan) : []}
            at={made ? sourceSeconds : null}
            onProve={(moments, length, variants) => void prove(moments, length, variants)}
            onSample={() => void prove([], 1, [{ label: "", overrides: {} }], true)}
          />
          <ProofList
            proofs={proofs.proofs}
            shown={shown?.id}
            count={count}
            onChoose={choose}
            onRemove={(proof) => void remove(proof)}
          />
        </Box>
      </Box>
    </>
  );
}

/** What is shown where there is no picture yet. */
function Nothing({ shown }: { shown: Proof | undefined }) {
  if (shown && (shown.state === "running" || shown.state === "waiting")) {
    return (
      <Box
        data-testid="making"
        sx={{ m: "auto", display: "flex", flexDirection: "column", alignItems: "center", gap: 1 }}
      >
        <Facet state={shown.state} fraction={shown.fraction} size={48} title={shown.state} />
        <Box>
          {shown.state === "waiting"
            ? "Others come first"
            : `${String(Math.floor(shown.fraction * 100))} % made, by the very plan of the output`}
        </Box>
      </Box>
    );
  }
  if (shown?.problem) {
    return (
      <Box sx={{ m: "auto", maxWidth: 420 }}>
        <Box sx={{ fontWeight: 600 }}>{shown.problem.what}</Box>
        <Box>Why: {shown.problem.why}.</Box>
        <Box sx={{ color: "text.secondary" }}>{shown.problem.next}</Box>
      </Box>
    );
  }
  return (
    <Box sx={{ m: "auto", maxWidth: 420, textAlign: "center", color: "text.secondary" }}>
      <Box sx={{ fontSize: 16, color: "text.primary", fontWeight: 600, mb: 0.5 }}>Nothing is proved yet</Box>A proof is
      a few seconds made exactly as the whole will be, shown beside its source: in motion, frame by frame, and with what
      it foretells of size, rate and time. Choose moments on the right and prove them.
    </Box>
  );
}

/** What the proof has shown, and what it foretells for the whole. */
function Foretold({ proof, name }: { proof: Proof; name: string }) {
  const { made, whole } = proof;
  if (!made) return null;
  return (
    <Box data-testid="forecast">
      <Heading>{name}</Heading>
      {whole && (
        <Box sx={{ fontSize: 20, fontWeight: 700 }}>
          ≈ {sizeText(whole.size)}{" "}
          <Box component="span" sx={{ fontSize: 13, fontWeight: 400, color: "text.secondary" }}>
            for the whole, {(whole.rate / 1e6).toFixed(2)} Mb/s
            {whole.seconds == null ? "" : `, made in about ${spanText(whole.seconds)}`}
          </Box>
        </Box>
      )}
      <Box sx={{ color: "text.secondary" }}>
        This proof: {sizeText(made.size)}, SSIM {made.ssim.toFixed(4)} (least {made.least_ssim.toFixed(4)}),{" "}
        {made.psnr >= 100 ? "identical" : `${made.psnr.toFixed(1)} dB`}
      </Box>
      {proof.steps.length > 0 && (
        <Box sx={{ color: "text.secondary", fontSize: 12 }}>
          {plural(proof.steps.length, "step")}: {proof.steps.join(", ")}
        </Box>
      )}
    </Box>
  );
}

/** The moment of the source that a proof shows after so many seconds of source. */
function sourceTime(proof: Proof, seconds: number): number {
  let left = seconds;
  for (const part of proof.parts) {
    const length = fraction(part.to) - fraction(part.from);
    if (left < length) return fraction(part.from) + left;
    left -= length;
  }
  return fraction(proof.parts.at(-1)?.to ?? "0");
}

function stillOf(proof: Proof, frame: number, side: "source" | "made"): string {
  const last = Math.max(0, (proof.made?.frames ?? 1) - 1);
  return `/api/proofs/${proof.id}/still?frame=${String(Math.min(frame, last))}&side=${side}`;
}

/** A frame of a proof as it is compared: the proof is in the lower half of its film, below its source. */
function shownOf(proof: Proof, frame: number, name: string): Shown {
  return { name, still: stillOf(proof, frame, "made"), film: `/api/proofs/${proof.id}/film`, half: "lower" };
}

function nameOf(proof: Proof, column: Deliverable | undefined): string {
  const name = column?.preset.name ?? "proof";
  return proof.label === "" ? name : `${name}, ${proof.label}`;
}

/** The frame that is shown at a moment of a proof. */
function frameAt(frames: { at: number }[], seconds: number): number {
  let place = 0;
  while (place + 1 < frames.length && (frames[place + 1]?.at ?? 0) <= seconds * 1000 + 1) place += 1;
  return place;
}
