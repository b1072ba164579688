/** Mending for all outputs of a source: each setting stands above what the presets say, until it is left again. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Bench, type Reading, type Setting } from "../api/client";
import { keys } from "../api/live";
import { useCatalogue, valueAt, withValue } from "../catalogue/catalogue";
import { SettingField } from "../catalogue/SettingField";
import { plural } from "../shared/words";
import { Heading } from "../sheets/SlipParts";
import { mendingSections } from "./mending";
import type { RowSettings } from "./rowSettings";

export function MendPanel({ bench, row, onClose }: { bench: Bench; row: RowSettings; onClose: () => void }) {
  const { data: aids = [] } = useQuery({ queryKey: keys.aids, queryFn: api.aids });
  const sections = mendingSections(useCatalogue());
  const languages = languagesOf(bench.reading);
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
          <Box key={section.name}>
            <Heading>{section.name}</Heading>
            {settings.map((setting) => (
              <SettingField
                key={setting.place}
                setting={setting}
                value={valueAt(row.overrides, setting.place)}
                unset="from the preset"
                aids={aids}
                languages={languages}
                onChange={(value) => {
                  row.set(withValue(row.overrides, setting.place, value), `${setting.name} of ${bench.source.name}`);
                }}
              />
            ))}
          </Box>
        );
      })}
      {idle.length > 0 && <Idle settings={idle} why={bench.idle} />}
    </Box>
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
