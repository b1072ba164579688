/** Mending for all outputs of a source, as decisions: what will be done now and why, and what changes it. */
import { styled } from "@mui/material/styles";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import {
  api,
  type Asset,
  type Bench,
  type CellKey,
  type Decision,
  type Reading,
  type Section,
  type Setting,
} from "../api/client";
import { keys } from "../api/live";
import { useCatalogue, valueAt, withValue } from "../catalogue/catalogue";
import { SettingField } from "../catalogue/SettingField";
import { plural } from "../shared/words";
import { Heading } from "../sheets/SlipParts";
import { costOf, costWords, decidedBy, mendingSections, mostChanged } from "./mending";
import type { RowSettings } from "./rowSettings";

interface Props {
  bench: Bench;
  row: RowSettings;
  /** An output of this source whose plan says what is done now. */
  cell: CellKey | undefined;
  onClose: () => void;
}

export function MendPanel({ bench, row, cell, onClose }: Props) {
  const { data: assets = [] } = useQuery({ queryKey: keys.assets, queryFn: api.assets });
  const { data: output } = useQuery({
    queryKey: keys.output(cell?.source ?? "", cell?.deliverable ?? ""),
    queryFn: () => (cell ? api.output(cell) : Promise.reject(new Error("no output"))),
    enabled: cell !== undefined,
  });
  const sections = mendingSections(useCatalogue());
  // What is set is shown even where it means nothing: it can be left again.
  const isIdle = (setting: Setting) =>
    setting.place in bench.idle && valueAt(row.overrides, setting.place) === undefined;
  const idle = sections.flatMap((section) => section.settings.filter(isIdle));
  return (
    <Box data-testid="mend-panel">
      <Box sx={{ display: "flex", alignItems: "center", mt: 1.5 }}>
        <Box sx={{ fontWeight: 600, flex: 1 }}>For all outputs of this source</Box>
        <Button color="inherit" onClick={onClose}>
          Close
        </Button>
      </Box>
      {sections.map((section) => {
        const settings = section.settings.filter((setting) => !isIdle(setting));
        return settings.length === 0 ? null : (
          <Group
            key={section.name}
            section={{ ...section, settings }}
            decisions={decidedBy(section.name, output?.plan?.decisions ?? [])}
            cost={costWords(costOf(section.name, output?.costs ?? []))}
            bench={bench}
            row={row}
            assets={assets}
          />
        );
      })}
      {idle.length > 0 && <Idle settings={idle} why={bench.idle} />}
    </Box>
  );
}

const Done = styled("p")(({ theme: { palette, spacing } }) => ({
  margin: spacing(0, 0, 1),
  fontSize: 13,
  "& span": { color: palette.text.secondary },
}));

const Cost = styled("span")(({ theme: { palette, spacing } }) => ({
  marginLeft: spacing(1),
  fontWeight: 400,
  color: palette.text.secondary,
}));

/** Where a decision comes from, as the end of its sentence. */
function reasonOf({ origin, because }: Decision): string {
  switch (origin) {
    case "preset":
      return "from the preset";
    case "editor":
      return "overridden";
    case "source":
      return because;
  }
}

interface GroupProps {
  section: Section;
  decisions: Decision[];
  /** What it takes of the output's time, in words. */
  cost: string;
  bench: Bench;
  row: RowSettings;
  assets: Asset[];
}

/** One kind of mending: what is done now, the setting that is changed most, and the others behind it. */
function Group({ section, decisions, cost, bench, row, assets }: GroupProps) {
  const set = section.settings.filter((setting) => valueAt(row.overrides, setting.place) !== undefined);
  const [isOpen, setOpen] = useState(set.length > 0);
  const most = mostChanged(section);
  const shown = isOpen
    ? section.settings
    : section.settings.filter((setting) => setting === most || set.includes(setting));
  const hidden = section.settings.length - shown.length;
  return (
    <section data-mending={section.name}>
      <Heading>
        {section.name}
        {cost && <Cost title="Of the processor time of this output: a first guess">{cost}</Cost>}
      </Heading>
      {decisions.map((decision) => (
        <Done key={`${decision.subject} ${decision.what}`}>
          {decision.what} <span>· {reasonOf(decision)}</span>
        </Done>
      ))}
      {shown.map((setting) => (
        <SettingField
          key={setting.place}
          setting={setting}
          value={valueAt(row.overrides, setting.place)}
          unset="from the preset"
          assets={assets}
          languages={languagesOf(bench.reading)}
          onChange={(value) => {
            row.set(withValue(row.overrides, setting.place, value), `${setting.name} of ${bench.source.name}`);
          }}
        />
      ))}
      {(hidden > 0 || isOpen) && section.settings.length > 1 && (
        <Button
          size="small"
          color="inherit"
          aria-expanded={isOpen}
          data-testid={`more-${section.name}`}
          onClick={() => {
            setOpen(!isOpen);
          }}
        >
          {isOpen ? "Fewer settings" : plural(hidden, "more setting")}
        </Button>
      )}
    </section>
  );
}

/** Languages of the subtitles that are text. */
export function languagesOf(reading: Reading | null | undefined): string[] {
  const spoken = (reading?.streams ?? []).filter(
    (stream) => stream.content.kind === "subtitles" && !stream.content.are_pictures,
  );
  return [...new Set(spoken.flatMap((stream) => stream.language ?? []))];
}

/** Settings that mean nothing here, each with the reason. */
export function Idle({ settings, why }: { settings: Setting[]; why: Record<string, string> }) {
  const [isOpen, setIsOpen] = useState(false);
  return (
    <Box sx={{ mt: 1, color: "text.secondary", fontSize: 12 }}>
      <Button
        size="small"
        color="inherit"
        onClick={() => {
          setIsOpen(!isOpen);
        }}
        aria-expanded={isOpen}
      >
        {plural(settings.length, "setting")} without effect here
      </Button>
      {isOpen &&
        settings.map((setting) => (
          <Box key={setting.place}>
            {setting.name}: {why[setting.place]}
          </Box>
        ))}
    </Box>
  );
}
