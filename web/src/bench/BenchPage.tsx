/** The bench: one source, to be known and mended. */
import { styled } from "@mui/material/styles";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, type Bench, type BenchSuggestion, type ShownField } from "../api/client";
import { keys } from "../api/live";
import { proofAddress } from "../proof/address";
import { useActions } from "../shared/actions";
import { Bar, Key } from "../shared/Bar";
import { Pending } from "../shared/Pending";
import { useTell } from "../shared/messages";
import { MONO } from "../shared/theme";
import { useViewing } from "../shared/viewing";
import { Choice } from "../shared/Choice";
import { soundStreams } from "./sounds";
import { timecodeText } from "../shared/timecode";
import { LARGE_PART, NARROW_PART, TWO_PARTS } from "../shared/twoParts";
import { plural } from "../shared/words";
import { patchAfter, patchWithout } from "../sheets/overrides";
import { byHand, type CropRule, ruleOf } from "./crop";
import { CropFrame } from "./CropFrame";
import { CropPanel } from "./CropPanel";
import { Findings } from "./Findings";
import { Lanes, type View } from "./Lanes";
import { markedIn, markedOut, type Marks, type Part, partsOf, secondsOf } from "./marks";
import { MarksPanel } from "./MarksPanel";
import { withValue } from "../catalogue/catalogue";
import { seen } from "./mending";
import { MendPanel } from "./MendPanel";
import { Picture } from "./Picture";
import { clamp, clockOf, shuttled } from "./position";
import { useRowSettings } from "./rowSettings";
import { Scopes } from "./Scopes";

const Transport = styled("div")(({ theme: { spacing, breakpoints } }) => ({
  flex: "none",
  minHeight: 42,
  display: "flex",
  flexWrap: "nowrap",
  alignItems: "center",
  columnGap: spacing(1.25),
  padding: spacing(0, 2),
  whiteSpace: "nowrap",
  overflow: "hidden",
  "& > button, & > [role=group]": { flex: "none" },
  [breakpoints.down("lg")]: { flexWrap: "wrap" },
}));

export default function BenchPage() {
  const { id = "", source = "" } = useParams();
  const {
    data: bench,
    error,
    refetch,
  } = useQuery({ queryKey: keys.bench(id, source), queryFn: () => api.bench(id, source) });
  if (!bench) return <Pending error={error} onAgain={() => void refetch()} />;
  return <Loaded key={source} sheet={id} bench={bench} />;
}

/** What is told beside the buttons; it gives way where there is little room. */
const side = {
  color: "text.secondary",
  fontSize: 12,
  minWidth: 0,
  overflow: "hidden",
  textOverflow: "ellipsis",
} as const;

function Loaded({ sheet, bench }: { sheet: string; bench: Bench }) {
  const { source, reading } = bench;
  const navigate = useNavigate();
  const { tell, refuse } = useTell();
  const { data: curves } = useQuery({ queryKey: keys.curves(source.id), queryFn: () => api.curves(source.id) });
  const sounds = soundStreams(reading);
  const [heard, setHeard] = useState<number | null>(null);
  const viewing = useViewing("sources", source.id, reading != null, heard);
  const { data: whole } = useQuery({ queryKey: keys.sheet(sheet), queryFn: () => api.sheet(sheet) });
  const provable = whole?.cells.find((cell) => cell.source === source.id && cell.enabled && !cell.refusal);
  const prove = () => {
    if (provable) void navigate(proofAddress(sheet, provable));
  };
  const clock = useMemo(() => clockOf(reading, curves), [reading, curves]);
  const [frame, setFrame] = useState(0);
  const [field, setField] = useState<ShownField>("both");
  // How fast it moves, by the pace of the source: backwards below nought.
  const [speed, setSpeed] = useState(0);
  const [hasScopes, setScopes] = useState(false);
  const [isLooping, setLooping] = useState(false);
  const playing = speed !== 0;
  const [wantedView, setView] = useState<View | null>(null);
  const row = useRowSettings(sheet, bench);
  const [panel, setPanel] = useState<"crop" | "mend" | null>(null);
  const cropping = panel === "crop";
  const [asMended, setAsMended] = useState(true);
  const [rule, setRule] = useState<CropRule | null>(() => ruleOf(row.overrides));
  const { data: worked, error: cropError } = useQuery({
    queryKey: [...keys.bench(sheet, source.id), "crop", rule ?? { rule: "never" }],
    queryFn: () => api.crop(source.id, rule ?? { rule: "never" }),
    enabled: cropping,
    retry: false,
    placeholderData: keepPreviousData,
  });
  const cropFault = cropError?.message ?? "";
  // A drag is shown at once; what it costs is asked for meanwhile.
  const crop =
    worked && rule?.rule === "by_hand"
      ? {
          ...worked,
          part: {
            x: rule.left,
            y: rule.top,
            width: worked.width - rule.left - rule.right,
            height: worked.height - rule.top - rule.bottom,
          },
        }
      : worked;
  const [open, setOpen] = useState<number | null>(null);
  const parts = useMemo(() => partsOf(row.overrides, clock), [row.overrides, clock]);
  const marks: Marks = { parts, open };
  const length = whole?.sources.find((row) => row.id === source.id)?.duration;
  const alike = whole?.sources.filter((row) => row.id !== source.id && length != null && row.duration === length) ?? [];
  const mended = seen(row.overrides);
  const look = asMended && field === "both" ? mended : null;
  const view = wantedView ?? { from: 0, to: Math.max(clock.length, 0.04) };

  const go = (to: number) => {
    setSpeed(0);
    setFrame(clamp(to, 0, clock.frames - 1));
  };
  const seek = (seconds: number) => {
    // Half a frame farther: moments are given as when a frame begins, rounded.
    go(clock.frameAt(seconds + 0.25 / clock.rate));
  };
  const take = (suggestion: BenchSuggestion) => {
    row.set(
      patchAfter(row.overrides, suggestion.settings),
      `${suggestion.what}: applied to all outputs of ${source.name}.`,
      true,
    );
  };
  const drop = (suggestion: BenchSuggestion) => {
    row.set(patchWithout(row.overrides, suggestion.settings), `${suggestion.what}: undone.`, true);
  };
  const setCrop = () => {
    row.set(
      withValue(row.overrides, "picture.crop", rule ?? undefined),
      rule === null
        ? `${source.name}: cut from the preset.`
        : `${source.name}: ${worked?.what ?? "cut"}, for all outputs.`,
      true,
    );
  };
  const saveParts = (next: Part[]) => {
    const others = patchWithout(row.overrides, { parts: null });
    row.set(next.length === 0 ? others : { ...others, parts: secondsOf(next, clock) }, `The marks of ${source.name}`);
  };
  const mark = (next: Marks) => {
    setOpen(next.open);
    if (next.parts !== marks.parts) saveParts(next.parts);
  };
  const copyMarks = async () => {
    try {
      const before = await api.setRows(
        sheet,
        alike.map((row) => row.id),
        { parts: secondsOf(marks.parts, clock) },
        true,
      );
      tell(`Marks copied to ${plural(alike.length, "source")} of equal length.`, async () => {
        for (const { sources, overrides } of before) await api.setRows(sheet, sources, overrides);
      });
    } catch (error) {
      refuse(error);
    }
  };
  const splitParts = async () => {
    try {
      const rows = await api.split(sheet, source.id, secondsOf(marks.parts, clock));
      tell(`${source.name} stands in ${plural(rows.length, "row")} now, a part in each.`);
      void navigate(`/sheets/${sheet}`);
    } catch (error) {
      refuse(error);
    }
  };
  /** Shows a part of the length around the playhead, so many times as long as the one that is shown. */
  const zoomTime = (by: number) => {
    const length = clamp((view.to - view.from) * by, Math.min(1, clock.length), clock.length);
    const from = clamp(clock.timeOf(frame) - length / 2, 0, Math.max(0, clock.length - length));
    setView(length >= clock.length ? null : { from, to: from + length });
  };
  const mayPlay = viewing?.state === "ready";
  const toggle = () => {
    setSpeed(playing || !mayPlay ? 0 : 1);
  };
  const shuttle = (direction: 1 | -1) => {
    setSpeed(mayPlay ? shuttled(speed, direction) : 0);
  };
  // What is repeated: the part at the playhead, or all of it.
  const part = parts.find((one) => one.first <= frame && frame < one.end) ?? parts[0];
  const loop = isLooping
    ? {
        from: clock.timeOf(part?.first ?? 0),
        to: part && part.end < clock.frames ? clock.timeOf(part.end) : clock.length,
      }
    : null;
  const rows = whole?.sources ?? [];
  const here = rows.findIndex((one) => one.id === source.id);
  const neighbour = (by: number) => (here < 0 ? undefined : rows[here + by]);
  const goTo = (by: number) => {
    const other = neighbour(by);
    if (other) void navigate(`/sheets/${sheet}/sources/${other.id}`);
  };
  useActions([
    {
      name: "One frame on",
      key: "ArrowRight",
      run: () => {
        go(frame + 1);
      },
    },
    {
      name: "One frame back",
      key: "ArrowLeft",
      run: () => {
        go(frame - 1);
      },
    },
    {
      name: "One second on",
      key: "ArrowUp",
      run: () => {
        go(clock.secondsOn(frame, 1));
      },
    },
    {
      name: "One second back",
      key: "ArrowDown",
      run: () => {
        go(clock.secondsOn(frame, -1));
      },
    },
    {
      name: "To the first frame",
      key: "Home",
      run: () => {
        go(0);
      },
    },
    {
      name: "To the last frame",
      key: "End",
      run: () => {
        go(clock.frames - 1);
      },
    },
    { name: playing ? "Stop" : "Play", key: " ", enabled: mayPlay, run: toggle },
    {
      name: "Play on, faster each time",
      key: "l",
      enabled: mayPlay,
      run: () => {
        shuttle(1);
      },
    },
    {
      name: "Play back, faster each time",
      key: "j",
      enabled: mayPlay,
      run: () => {
        shuttle(-1);
      },
    },
    {
      name: "Stand still",
      key: "k",
      enabled: playing,
      run: () => {
        setSpeed(0);
      },
    },
    {
      name: isLooping ? "Do not repeat" : "Repeat the marked part",
      key: "r",
      run: () => {
        setLooping(!isLooping);
      },
    },
    {
      name: hasScopes ? "Put the scopes away" : "Show waveform and vectorscope",
      key: "v",
      run: () => {
        setScopes(!hasScopes);
      },
    },
    {
      name: "Go to the in point",
      key: "I",
      enabled: part !== undefined || open !== null,
      run: () => {
        go(open ?? part?.first ?? 0);
      },
    },
    {
      name: "Go to the out point",
      key: "O",
      enabled: part !== undefined,
      run: () => {
        go((part?.end ?? 1) - 1);
      },
    },
    {
      name: "Clear the marks",
      key: "c",
      enabled: parts.length > 0 || open !== null,
      run: () => {
        mark({ parts: [], open: null });
      },
    },
    {
      name: "Next source",
      key: "PageDown",
      enabled: neighbour(1) !== undefined,
      run: () => {
        goTo(1);
      },
    },
    {
      name: "Previous source",
      key: "PageUp",
      enabled: neighbour(-1) !== undefined,
      run: () => {
        goTo(-1);
      },
    },
    {
      name: "Show the whole length",
      key: "w",
      run: () => {
        setView(null);
      },
    },
    {
      name: "Zoom in on the time",
      key: "+",
      run: () => {
        zoomTime(0.5);
      },
    },
    {
      name: "Zoom out on the time",
      key: "-",
      run: () => {
        zoomTime(2);
      },
    },
    {
      name: "Show fields apart or together",
      key: "f",
      run: () => {
        setField(field === "both" ? "top" : field === "top" ? "bottom" : "both");
      },
    },
    {
      name: "Mark in",
      key: "i",
      run: () => {
        mark(markedIn(marks, frame));
      },
    },
    {
      name: "Mark out",
      key: "o",
      run: () => {
        mark(markedOut(marks, frame));
      },
    },
    { name: "Prove an output of it", key: "p", enabled: provable !== undefined, run: prove },
    {
      name: "Crop",
      key: "x",
      run: () => {
        setPanel(cropping ? null : "crop");
      },
    },
    {
      name: "Mend for all outputs",
      key: "m",
      run: () => {
        setPanel(panel === "mend" ? null : "mend");
      },
    },
    {
      name: panel ? "Close the panel" : "Back to the sheet",
      key: "Escape",
      run: () => {
        if (panel) setPanel(null);
        else void navigate(`/sheets/${sheet}`);
      },
    },
  ]);
  return (
    <>
      <Bar title={source.name} detail={source.summary}>
        {provable && (
          <Button
            color="inherit"
            variant="outlined"
            onClick={prove}
            title="Make a few seconds of an output to look at (P)"
            data-testid="prove-it"
          >
            Prove<Key>P</Key>
          </Button>
        )}
        <Button color="inherit" onClick={() => void navigate(`/sheets/${sheet}`)} title="Back to the sheet (Esc)">
          Back to the sheet<Key>Esc</Key>
        </Button>
      </Bar>
      <Box sx={TWO_PARTS}>
        <Box sx={LARGE_PART}>
          <Picture
            source={source.id}
            clock={clock}
            frame={frame}
            field={field}
            look={look}
            speed={speed}
            loop={loop}
            viewing={viewing}
            onMoved={(seconds) => {
              setFrame(clock.frameAt(seconds));
            }}
            onStopped={() => {
              setSpeed(0);
            }}
            over={
              cropping && crop
                ? (width, height) => (
                    <CropFrame
                      crop={crop}
                      width={width}
                      height={height}
                      onDrag={(part) => {
                        setRule(byHand(part, crop));
                      }}
                    />
                  )
                : undefined
            }
          />
          <Transport>
            <Button
              color="inherit"
              variant="outlined"
              disabled={!mayPlay}
              onClick={toggle}
              title="Play or stop (Space); J and L play back and on, faster each time, K stands still"
              sx={{ minWidth: 60 }}
            >
              {playing ? "Stop" : "Play"}
            </Button>
            {playing && speed !== 1 && (
              <Box role="status" sx={{ fontFamily: MONO, fontSize: 12 }}>
                {speed < 0 ? "−" : ""}
                {Math.abs(speed)}×
              </Box>
            )}
            <Button
              color="inherit"
              onClick={() => {
                go(frame - 1);
              }}
              title="One frame back (←)"
              sx={{ minWidth: 32 }}
            >
              −1
            </Button>
            <Button
              color="inherit"
              onClick={() => {
                go(frame + 1);
              }}
              title="One frame on (→)"
              sx={{ minWidth: 32 }}
            >
              +1
            </Button>
            <Box data-testid="timecode" sx={{ fontFamily: MONO, fontSize: 14 }}>
              {timecodeText(clock.timeOf(frame), clock.count)}
            </Box>
            <Box title={reading?.reel ? "The reel that the source names" : undefined} sx={{ ...side, flex: "1 1 0" }}>
              {reading?.reel && <>reel {reading.reel} · </>}
              {frame + 1} of {clock.frames}
            </Box>
            {viewing?.state === "making" && (
              <Box title="Browsers cannot play the source: a copy to play is being made" sx={side}>
                preview copy {Math.floor(viewing.fraction * 100)} %
              </Box>
            )}
            {viewing?.state === "failed" && (
              <Box title={viewing.problem.why} sx={side}>
                cannot be played here
              </Box>
            )}
            {sounds.length > 1 && (
              <Choice
                label="Sound"
                value={heard === null ? "" : String(heard)}
                options={[{ value: "", words: "as it plays" }, ...sounds]}
                onChange={(stream) => {
                  setHeard(stream === "" ? null : Number(stream));
                }}
              />
            )}
            {mended && (
              <Button
                color="inherit"
                variant={asMended ? "outlined" : "text"}
                aria-pressed={asMended}
                onClick={() => {
                  setAsMended(!asMended);
                }}
                title="The picture with its colour, levels and watermark, or as it is"
              >
                As mended
              </Button>
            )}
            <Button
              color="inherit"
              variant={hasScopes ? "outlined" : "text"}
              aria-pressed={hasScopes}
              onClick={() => {
                setScopes(!hasScopes);
              }}
              title="Waveform and vectorscope of the frame at the playhead (V)"
              data-testid="scopes"
            >
              Scopes
            </Button>
            <Button
              color="inherit"
              variant={panel === "mend" ? "outlined" : "text"}
              onClick={() => {
                setPanel(panel === "mend" ? null : "mend");
              }}
              title="Mend for all outputs (M)"
              data-testid="mend"
            >
              Mend
            </Button>
            <Button
              color="inherit"
              variant={cropping ? "outlined" : "text"}
              onClick={() => {
                setPanel(cropping ? null : "crop");
              }}
              title="Crop (X)"
              data-testid="crop"
            >
              Crop
            </Button>
            <ToggleButtonGroup
              exclusive
              size="small"
              value={field}
              onChange={(_, value: ShownField | null) => {
                if (value) setField(value);
              }}
              aria-label="Fields shown"
              sx={{ "& button": { textTransform: "none", py: 0.25, px: 1.25 } }}
            >
              <ToggleButton value="both" title="Whole frames (F)">
                Frame
              </ToggleButton>
              <ToggleButton value="top" title="The top field alone (F)">
                Top
              </ToggleButton>
              <ToggleButton value="bottom" title="The bottom field alone (F)">
                Bottom
              </ToggleButton>
            </ToggleButtonGroup>
          </Transport>
          <Lanes
            source={source.id}
            reading={reading}
            curves={curves}
            clock={clock}
            view={view}
            position={clock.timeOf(frame)}
            marks={marks}
            onView={setView}
            onSeek={seek}
          />
        </Box>
        <Box component="aside" aria-label="The reading" data-testid="reading" sx={NARROW_PART}>
          {hasScopes && <Scopes source={source.id} at={clock.exactTimeOf(frame)} look={look} />}
          {cropping && (
            <CropPanel
              bench={bench}
              clock={clock}
              rule={rule}
              crop={worked}
              fault={cropFault}
              onRule={setRule}
              onSet={setCrop}
              onSeek={seek}
              onClose={() => {
                setPanel(null);
              }}
            />
          )}
          {panel === "mend" && (
            <MendPanel
              bench={bench}
              row={row}
              cell={provable}
              onClose={() => {
                setPanel(null);
              }}
            />
          )}
          {!panel && (
            <MarksPanel
              marks={marks}
              clock={clock}
              alike={alike.length}
              onParts={saveParts}
              onSeek={go}
              onCopy={() => void copyMarks()}
              onSplit={() => void splitParts()}
              onIn={() => {
                mark(markedIn(marks, frame));
              }}
              onOut={() => {
                mark(markedOut(marks, frame));
              }}
            />
          )}
          {!panel && <Findings bench={bench} count={clock.count} onSeek={seek} onTake={take} onDrop={drop} />}
        </Box>
      </Box>
    </>
  );
}
