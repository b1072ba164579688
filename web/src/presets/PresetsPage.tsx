/** The presets, side by side. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import TableSortLabel from "@mui/material/TableSortLabel";
import { styled } from "@mui/material/styles";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Preset, type PresetItem } from "../api/client";
import { keys } from "../api/live";
import { Bar } from "../shared/Bar";
import { useAsk, useTell } from "../shared/messages";
import { Pending } from "../shared/Pending";
import { plural, sizeText } from "../shared/words";
import { freeId } from "./ids";
import { type Heading, inOrder, type Order, ordered } from "./order";
import { type Edited, PresetDialog } from "./PresetDialog";
import { VersionsDialog } from "./VersionsDialog";

const Table = styled("table")(({ theme: { palette, spacing } }) => ({
  width: "100%",
  borderCollapse: "collapse",
  "& td, & th": {
    textAlign: "left",
    borderBottom: `1px solid ${palette.divider}`,
    padding: spacing(0.9, 1.5),
    verticalAlign: "top",
  },
  "& th": {
    color: palette.text.secondary,
    fontWeight: 500,
    position: "sticky",
    top: 0,
    backgroundColor: palette.background.default,
  },
  "& td:first-of-type": { maxWidth: 330 },
  "& small": { display: "block", fontSize: 12, color: palette.text.secondary },
  "& .figure": { textAlign: "right", fontWeight: 700 },
  "& .actions": { textAlign: "right", whiteSpace: "nowrap" },
}));

export default function PresetsPage() {
  const { data, error, refetch } = useQuery({ queryKey: keys.presets, queryFn: api.presets });
  const presets = data ?? [];
  const [order, setOrder] = useState<Order>(null);
  const [edited, setEdited] = useState<Edited | null>(null);
  const [versionsOf, setVersionsOf] = useState<Preset | null>(null);
  const ask = useAsk();
  const client = useQueryClient();
  const { tell, refuse } = useTell();
  const shown = inOrder(presets, order);
  const heading = (by: Heading, words: string) => (
    <TableSortLabel
      active={order?.by === by}
      direction={order?.by === by ? order.direction : "asc"}
      onClick={() => {
        setOrder(ordered(order, by));
      }}
    >
      {words}
    </TableSortLabel>
  );
  const sorting = (by: Heading) =>
    order?.by === by ? (order.direction === "asc" ? ("ascending" as const) : ("descending" as const)) : undefined;
  const change = (item: PresetItem) => {
    const own: Preset = item.is_builtin
      ? { ...item.preset, id: freeId(`${item.preset.id}-copy`, presets), name: `${item.preset.name} (copy)` }
      : item.preset;
    setEdited({ origin: item.preset, preset: own, replaces: item.is_builtin ? null : item.preset.id });
  };
  /** Saves a preset, in place of the one that it was made from or as another; none is replaced unasked. */
  const save = async (preset: Preset, replaces: string | null): Promise<boolean> => {
    const before = presets.find((item) => item.preset.id === replaces)?.preset;
    if (before) {
      await api.changePreset(before.id, preset);
      tell(`“${preset.name}” is saved.`, () => api.changePreset(preset.id, before));
    } else {
      const present = presets.find((item) => item.preset.id === preset.id && !item.is_builtin)?.preset;
      if (present && !(await mayReplace(present))) return false;
      await api.savePreset(preset);
      tell(`“${preset.name}” is saved.`, () => (present ? api.savePreset(present) : api.removePreset(preset.id)));
    }
    await client.invalidateQueries({ queryKey: keys.presets });
    return true;
  };
  const mayReplace = (present: Preset) =>
    ask({
      title: `Replace “${present.name}”?`,
      text: `The house has a preset with the id ${present.id} already. Columns made from it keep it as it was.`,
      yes: "Replace it",
      no: "Keep it",
    });
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
        <Table>
          <thead>
            <tr>
              <th aria-sort={sorting("name")}>{heading("name", "Preset")}</th>
              <th aria-sort={sorting("container")}>{heading("container", "Container")}</th>
              <th>Codec and rate</th>
              <th>Frame</th>
              <th>Sound</th>
              <th className="figure" aria-sort={sorting("size")}>
                {heading("size", "Size per minute (1080p25)")}
              </th>
              <th aria-label="Actions" />
            </tr>
          </thead>
          <tbody>
            {shown.map((item) => (
              <tr key={item.preset.id}>
                <td>
                  <b>{item.preset.name}</b>
                  <small>{item.preset.use_when}</small>
                </td>
                <td>{item.preset.container.toUpperCase()}</td>
                <td>{item.headline}</td>
                <td>{item.frame}</td>
                <td>{sound(item)}</td>
                <td className="figure">
                  {item.bytes_per_minute == null ? "by source" : sizeText(item.bytes_per_minute)}
                </td>
                <td className="actions">
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
                    <>
                      <Button
                        color="inherit"
                        onClick={() => {
                          setVersionsOf(item.preset);
                        }}
                      >
                        Versions
                      </Button>
                      <Button
                        color="inherit"
                        onClick={() => {
                          remove(item);
                        }}
                      >
                        Remove
                      </Button>
                    </>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      </Box>
      {versionsOf && (
        <VersionsDialog
          preset={versionsOf}
          onOpen={(version) => {
            setVersionsOf(null);
            setEdited({ origin: versionsOf, preset: version, replaces: versionsOf.id });
          }}
          onClose={() => {
            setVersionsOf(null);
          }}
        />
      )}
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
