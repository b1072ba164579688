/** The presets, side by side. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Preset, type PresetItem } from "../api/client";
import { keys } from "../api/live";
import { Bar } from "../shared/Bar";
import { useAsk, useTell } from "../shared/messages";
import { Pending } from "../shared/Pending";
import { plural, sizeText } from "../shared/words";
import { type Edited, PresetDialog } from "./PresetDialog";

type Order = "given" | "weight";

export default function PresetsPage() {
  const { data, error, refetch } = useQuery({ queryKey: keys.presets, queryFn: api.presets });
  const presets = data ?? [];
  const [order, setOrder] = useState<Order>("given");
  const [edited, setEdited] = useState<Edited | null>(null);
  const ask = useAsk();
  const client = useQueryClient();
  const { tell, refuse } = useTell();
  const shown =
    order === "given" ? presets : presets.toSorted((one, other) => one.bytes_per_minute - other.bytes_per_minute);
  const change = (item: PresetItem) => {
    const own: Preset = item.is_builtin
      ? { ...item.preset, id: freeId(item.preset.id, presets), name: `${item.preset.name} (copy)` }
      : item.preset;
    setEdited({ origin: item.preset, preset: own, replaces: item.is_builtin ? null : item.preset.id });
  };
  /** Saves a preset; one of the house that has its id is replaced only where somebody says so. */
  const save = async (preset: Preset, replaces: string | null): Promise<boolean> => {
    const present = presets.find((item) => item.preset.id === preset.id && !item.is_builtin)?.preset;
    if (present && present.id !== replaces) {
      const isMeant = await ask({
        title: `Replace “${present.name}”?`,
        text: `The house has a preset with the id ${preset.id} already. Columns made from it keep it as it was.`,
        yes: "Replace it",
        no: "Keep it",
      });
      if (!isMeant) return false;
    }
    await api.savePreset(preset);
    tell(`“${preset.name}” is saved.`, () => (present ? api.savePreset(present) : api.removePreset(preset.id)));
    await client.invalidateQueries({ queryKey: keys.presets });
    return true;
  };
  const take = async (files: FileList | null) => {
    for (const file of files ?? []) {
      try {
        await save(JSON.parse(await file.text()) as Preset, null);
      } catch (error) {
        refuse(error instanceof SyntaxError ? new Error(`${file.name} is no preset: ${error.message}`) : error);
      }
    }
  };
  const remove = (item: PresetItem) => {
    const again = () => client.invalidateQueries({ queryKey: keys.presets });
    api
      .removePreset(item.preset.id)
      .then(() => {
        tell(`“${item.preset.name}” is removed; columns made from it keep it.`, () =>
          api.savePreset(item.preset).then(again),
        );
        return again();
      })
      .catch(refuse);
  };
  const sound = (item: PresetItem) => {
    const { sound } = item.preset;
    if (!sound) return "none";
    const words = { aac: "AAC", pcm16: "PCM 16", pcm24: "PCM 24", copy: "copied" }[sound.codec];
    return [
      words,
      sound.bits_per_second && `${String(sound.bits_per_second / 1000)} kb/s`,
      sound.channels !== "same" && sound.channels,
    ]
      .filter(Boolean)
      .join(" · ");
  };
  return (
    <>
      <Bar title="Presets" detail={data && plural(data.length, "preset")}>
        <Button
          color="inherit"
          onClick={() => {
            setOrder(order === "given" ? "weight" : "given");
          }}
        >
          {order === "given" ? "Sort by size per minute" : "Sort by role"}
        </Button>
        <Button color="inherit" component="label" title="Preset documents (.json)">
          Import
          <input
            type="file"
            accept=".json,application/json"
            multiple
            hidden
            data-testid="import-presets"
            onChange={(event) => void take(event.target.files)}
          />
        </Button>
      </Bar>
      {!data && <Pending error={error} onAgain={() => void refetch()} />}
      <Box sx={{ flex: 1, overflow: "auto" }} hidden={!data}>
        <Box
          component="table"
          sx={{
            width: "100%",
            borderCollapse: "collapse",
            "& td, & th": {
              textAlign: "left",
              borderBottom: 1,
              borderColor: "divider",
              px: 1.5,
              py: 0.9,
              verticalAlign: "top",
            },
            "& th": {
              color: "text.secondary",
              fontWeight: 500,
              position: "sticky",
              top: 0,
              bgcolor: "background.default",
            },
          }}
        >
          <thead>
            <tr>
              <th>Preset</th>
              <th>Container</th>
              <th>Codec and rate</th>
              <th>Frame</th>
              <th>Sound</th>
              <th style={{ textAlign: "right" }}>Size per minute (1080p25)</th>
              <th aria-label="Actions" />
            </tr>
          </thead>
          <tbody>
            {shown.map((item) => (
              <tr key={item.preset.id}>
                <td style={{ maxWidth: 330 }}>
                  <b>{item.preset.name}</b>
                  <Box sx={{ color: "text.secondary", fontSize: 12 }}>{item.preset.use_when}</Box>
                </td>
                <td>{item.preset.container.toUpperCase()}</td>
                <td>{item.headline}</td>
                <td>{item.frame}</td>
                <td>{sound(item)}</td>
                <td style={{ textAlign: "right", fontWeight: 700 }}>{sizeText(item.bytes_per_minute)}</td>
                <td style={{ textAlign: "right", whiteSpace: "nowrap" }}>
                  <Button
                    color="inherit"
                    onClick={() => {
                      change(item);
                    }}
                  >
                    {item.is_builtin ? "Duplicate" : "Change"}
                  </Button>
                  <Button
                    color="inherit"
                    component="a"
                    href={`data:application/json,${encodeURIComponent(JSON.stringify(item.preset, null, 2))}`}
                    download={`${item.preset.id}.json`}
                    aria-label={`Export ${item.preset.name}`}
                  >
                    Export
                  </Button>
                  {!item.is_builtin && (
                    <Button
                      color="inherit"
                      onClick={() => {
                        remove(item);
                      }}
                    >
                      Remove
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Box>
      </Box>
      {edited && (
        <PresetDialog
          edited={edited}
          onSave={(preset) => save(preset, edited.replaces)}
          onClose={() => {
            setEdited(null);
          }}
        />
      )}
    </>
  );
}

/** An id like this one that no preset has. */
function freeId(id: string, presets: PresetItem[]): string {
  const taken = new Set(presets.map((item) => item.preset.id));
  const own = `${id}-copy`;
  for (let number = 2; ; number += 1) {
    const wanted = number === 2 ? own : `${own}-${String(number)}`;
    if (!taken.has(wanted)) return wanted;
  }
}
