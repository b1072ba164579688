/** The reading in words: what was found, how sure that is, what stands behind it, and what follows. */
import { styled } from "@mui/material/styles";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import type { Bench, BenchSuggestion, Evidence } from "../api/client";
import { Heading } from "../sheets/SlipParts";
import { type Count, timecodeText } from "../shared/timecode";
import { fraction } from "../shared/words";

interface Props {
  bench: Bench;
  count: Count;
  onSeek: (seconds: number) => void;
  onTake: (suggestion: BenchSuggestion) => void;
  onDrop: (suggestion: BenchSuggestion) => void;
}

const Offer = styled("div", { shouldForwardProp: (prop) => prop !== "isTaken" })<{ isTaken: boolean }>(
  ({ theme: { palette, spacing }, isTaken }) => ({
    border: `1px solid ${isTaken ? palette.primary.main : palette.divider}`,
    borderRadius: 8,
    padding: spacing(1.25),
    marginBottom: spacing(1),
  }),
);

const WordButton = styled("button")(({ theme: { palette } }) => ({
  all: "unset",
  cursor: "pointer",
  color: palette.primary.main,
  fontSize: 12,
  "&:hover": { textDecoration: "underline" },
}));

export function Findings({ bench, count, onSeek, onTake, onDrop }: Props) {
  const findings = bench.reading?.findings;
  const { source } = bench;
  if (source.problem)
    return (
      <Box sx={{ color: "error.main" }}>
        {source.problem.why}. {source.problem.next}
      </Box>
    );
  if (!findings)
    return (
      <Box sx={{ color: "text.secondary" }}>
        {source.scan === "failed"
          ? "It could not be scanned: what is shown comes from its headers."
          : "It is being scanned; what is found will stand here."}
      </Box>
    );
  const points: { name: string; words: string; evidence: Evidence }[] = [];
  if (findings.fields)
    points.push({ name: "Fields", words: findings.fields.words, evidence: findings.fields.evidence });
  if (findings.bars) points.push({ name: "Bars", words: findings.bars.words, evidence: findings.bars.evidence });
  if (findings.rate) points.push({ name: "Frame rate", words: findings.rate.words, evidence: findings.rate.evidence });
  if (findings.look)
    points.push({
      name: "Picture",
      words: findings.look.words.join("; ") || "nothing remarkable",
      evidence: findings.look.evidence,
    });
  for (const sound of findings.sounds)
    points.push({
      name: findings.sounds.length > 1 ? `Sound ${String(sound.stream)}` : "Sound",
      words: sound.words.join("; "),
      evidence: sound.evidence,
    });
  return (
    <>
      {bench.suggestions.length > 0 && <Heading>Suggestions</Heading>}
      {bench.suggestions.map((suggestion) => (
        <Offer key={suggestion.what} data-testid="suggestion" data-taken={suggestion.taken} isTaken={suggestion.taken}>
          <Box sx={{ fontWeight: 600 }}>{suggestion.what}</Box>
          <Box sx={{ color: "text.secondary", mb: 0.75 }}>because: {suggestion.because}</Box>
          {suggestion.taken ? (
            <Box sx={{ display: "flex", alignItems: "center", gap: 1 }}>
              <Box sx={{ color: "primary.main", fontWeight: 600 }}>Applied to all outputs</Box>
              <Button
                color="inherit"
                onClick={() => {
                  onDrop(suggestion);
                }}
              >
                Undo
              </Button>
            </Box>
          ) : (
            <Button
              variant="outlined"
              onClick={() => {
                onTake(suggestion);
              }}
            >
              Apply
            </Button>
          )}
        </Offer>
      ))}
      <Heading>{findings.extent.of === "whole" ? "What it is" : "What it is, by a first look at parts of it"}</Heading>
      {points.map((point) => (
        <Box key={point.name} data-testid={`finding-${point.name}`} sx={{ mb: 1.25 }}>
          <Box>
            <Box component="span" sx={{ fontWeight: 600 }}>
              {point.name}
            </Box>
            : {point.words}
          </Box>
          {point.evidence.moments.length > 0 && (
            <Box sx={{ display: "flex", flexWrap: "wrap", columnGap: 1.25 }}>
              {point.evidence.moments.map((moment) => (
                <Link
                  key={`${moment.at} ${moment.shows}`}
                  title={moment.shows}
                  onClick={() => {
                    onSeek(fraction(moment.at));
                  }}
                >
                  {timecodeText(fraction(moment.at), count)}
                </Link>
              ))}
            </Box>
          )}
          {point.evidence.figures.length > 0 && (
            <Box component="details" sx={{ color: "text.secondary", fontSize: 12 }}>
              <summary>{point.evidence.confidence} % confidence · evidence</summary>
              {point.evidence.figures.map((figure) => (
                <div key={figure}>{figure}</div>
              ))}
            </Box>
          )}
        </Box>
      ))}
      {(findings.unseen ?? []).map((words) => (
        <Box key={words} sx={{ mb: 1.25 }}>
          {words}
        </Box>
      ))}
      {findings.telling.length > 0 && (
        <>
          <Heading>Key moments</Heading>
          {findings.telling.map((moment) => (
            <Box key={moment.at} sx={{ display: "flex", gap: 1.25 }}>
              <Link
                onClick={() => {
                  onSeek(fraction(moment.at));
                }}
              >
                {timecodeText(fraction(moment.at), count)}
              </Link>
              {moment.shows}
            </Box>
          ))}
        </>
      )}
    </>
  );
}

function Link({ children, title, onClick }: { children: string; title?: string; onClick: () => void }) {
  return (
    <WordButton title={title} onClick={onClick}>
      {children}
    </WordButton>
  );
}
