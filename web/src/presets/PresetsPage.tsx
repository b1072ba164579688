/** The presets, side by side. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import TextField from "@mui/material/TextField";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type PresetItem } from "../api/client";
import { keys } from "../api/live";
import { Bar } from "../shared/Bar";
import { useTell } from "../shared/messages";
import { Pending } from "../shared/Pending";
import { MONO } from "../shared/theme";
import { plural, sizeText } from "../shared/words";

type Order = "given" | "weight";

export default function PresetsPage() {
  const { data, error, refetch } = useQuery({ queryKey: keys.presets, queryFn: api.presets });
  const presets = data ?? [];
  const [order, setOrder] = useState<Order>("given");
  const [edited, setEdited] = useState<string | null>(null);
  const client = useQueryClient();
  const { tell, refuse } = useTell();
  const shown =
    order === "given" ? presets : presets.toSorted((one, other) => one.bytes_per_minute - other.bytes_per_minute);
  const copy = (item: PresetItem) => {
    const own = item.is_builtin
      ? { ...item.preset, id: `${item.preset.id}-own`, name: `${item.preset.name}, own` }
      : item.preset;
    setEdited(JSON.stringify(own, null, 2));
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
    const words = { aac: "AAC", pcm16: "PCM 16", pcm24: "PCM 24", copy: "untouched" }[sound.codec];
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
          {order === "given" ? "Order by MB per minute" : "Order by role"}
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
              <th style={{ textAlign: "right" }}>1080p25, a minute</th>
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
                      copy(item);
                    }}
                  >
                    {item.is_builtin ? "Make my own" : "Change"}
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
      {edited !== null && (
        <Editor
          document={edited}
          onClose={() => {
            setEdited(null);
          }}
        />
      )}
    </>
  );
}

function Editor({ document, onClose }: { document: string; onClose: () => void }) {
  const [text, setText] = useState(document);
  const [fault, setFault] = useState("");
  const client = useQueryClient();
  const save = async () => {
    try {
      await api.savePreset(JSON.parse(text));
      await client.invalidateQueries({ queryKey: keys.presets });
      onClose();
    } catch (error) {
      setFault(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="md">
      <DialogTitle sx={{ fontSize: 16, fontWeight: 700 }}>Preset document</DialogTitle>
      <DialogContent>
        <TextField
          multiline
          fullWidth
          minRows={18}
          maxRows={22}
          value={text}
          onChange={(event) => {
            setText(event.target.value);
          }}
          error={fault !== ""}
          helperText={fault || "A preset is a JSON document; its schema is at /api/preset-schema.json."}
          slotProps={{ htmlInput: { "aria-label": "Preset document", style: { fontFamily: MONO, fontSize: 12 } } }}
        />
      </DialogContent>
      <DialogActions sx={{ px: 3, pb: 2 }}>
        <Button color="inherit" onClick={onClose}>
          Cancel
        </Button>
        <Button variant="contained" onClick={() => void save()}>
          Save
        </Button>
      </DialogActions>
    </Dialog>
  );
}
