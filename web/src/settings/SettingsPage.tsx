/** Settings: storages, tables and pictures, engine slots, the look. */
import { styled } from "@mui/material/styles";
import Autocomplete from "@mui/material/Autocomplete";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useContext, useState } from "react";
import { api, type Asset, type Settings } from "../api/client";
import { keys } from "../api/live";
import { Bar } from "../shared/Bar";
import StorageDialog from "./StorageDialog";
import { type Look, LookContext } from "../shared/look";
import { canNotify } from "../shared/notices";
import { useTell } from "../shared/messages";
import { reachText } from "../shared/storages";
import { sizeText } from "../shared/words";

const StorageRow = styled("div")(({ theme: { palette, spacing } }) => ({
  display: "flex",
  flexWrap: "wrap",
  alignItems: "center",
  columnGap: spacing(2),
  padding: spacing(0.75, 0),
  borderBottom: `1px solid ${palette.divider}`,
}));

const Reach = styled("div", { shouldForwardProp: (prop) => prop !== "isThere" })<{ isThere: boolean }>(
  ({ theme: { palette }, isThere }) => ({
    color: isThere ? palette.text.secondary : palette.warning.main,
    fontVariantNumeric: "tabular-nums",
  }),
);

export default function SettingsPage() {
  return (
    <>
      <Bar title="Settings" />
      <Box sx={{ flex: 1, overflow: "auto", p: 3 }}>
        <Box sx={{ display: "flex", flexDirection: "column", gap: 4, maxWidth: 860 }}>
          <Storages />
          <Assets />
          <Slots />
          <LookChoice />
          <Notices />
        </Box>
      </Box>
    </>
  );
}

function Part({ title, about, children }: { title: string; about: string; children: ReactNode }) {
  return (
    <section>
      <Box component="h2" sx={{ fontSize: 15, fontWeight: 700, m: 0 }}>
        {title}
      </Box>
      <Box sx={{ color: "text.secondary", mb: 1.5 }}>{about}</Box>
      {children}
    </section>
  );
}

const RETIRING = "Kept for what was made; not offered for anything new.";

function Storages() {
  const { data: storages = [] } = useQuery({ queryKey: keys.storages, queryFn: api.storages, staleTime: 0 });
  const [isAdding, setAdding] = useState(false);
  const { refuse } = useTell();
  return (
    <Part
      title="Storages"
      about="Folders of this machine that Beryl may read from and write to. Nothing outside them can be reached."
    >
      {storages.map((storage) => (
        <StorageRow key={storage.id}>
          <Box sx={{ fontWeight: 600, width: 180 }}>{storage.name}</Box>
          <Box sx={{ flex: "1 1 200px", color: "text.secondary", overflowWrap: "anywhere" }}>
            {storage.root}
            {storage.overlaps != null && (
              <Box sx={{ color: "warning.main" }}>Overlaps “{storage.overlaps}”: a file is found in both.</Box>
            )}
          </Box>
          <Reach isThere={reachText(storage) === ""}>
            {storage.is_retired ? "retired" : reachText(storage) || `${sizeText(storage.free ?? 0)} free`}
          </Reach>
          {storage.lacks_marker && (
            <Button
              color="inherit"
              title="The folder is there, but not the marker that tells it from an empty mount point. Mark it only if it is the right one."
              onClick={() => {
                api.markStorage(storage.id).catch(refuse);
              }}
            >
              Mark this folder
            </Button>
          )}
          <Button
            color="inherit"
            title={RETIRING}
            onClick={() => {
              api.retireStorage(storage.id, !storage.is_retired).catch(refuse);
            }}
          >
            {storage.is_retired ? "Use again" : "Retire"}
          </Button>
          <Button
            color="inherit"
            title="For a storage that nothing refers to. Its files stay."
            onClick={() => {
              api.removeStorage(storage.id).catch(refuse);
            }}
          >
            Remove
          </Button>
        </StorageRow>
      ))}
      <Button
        variant="outlined"
        sx={{ mt: 2 }}
        onClick={() => {
          setAdding(true);
        }}
      >
        Add a storage
      </Button>
      {isAdding && (
        <StorageDialog
          onClose={() => {
            setAdding(false);
          }}
        />
      )}
    </Part>
  );
}

const KINDS: Record<Asset["kind"], string> = { lut: "LUT", picture: "watermark" };

/** Look-up tables and pictures that presets call by name. */
function Assets() {
  const { data: assets = [] } = useQuery({ queryKey: keys.assets, queryFn: api.assets });
  const client = useQueryClient();
  const { tell, refuse } = useTell();
  const refresh = () => client.invalidateQueries({ queryKey: keys.assets });
  const add = async (files: FileList | null) => {
    for (const file of files ?? []) {
      const kind = file.name.toLowerCase().endsWith(".cube") ? "lut" : "picture";
      try {
        await api.addAsset(kind, file.name, file);
        tell(`${file.name}: kept as a ${KINDS[kind]}.`);
      } catch (error) {
        refuse(error);
      }
    }
    await refresh();
  };
  return (
    <Part
      title="LUTs and watermarks"
      about="LUTs (.cube) for colour, and pictures (PNG) for watermarks. Presets and benches call them by name."
    >
      {assets.map((asset) => (
        <Box
          key={`${asset.kind} ${asset.name}`}
          data-testid="asset"
          sx={{ display: "flex", alignItems: "center", gap: 2, py: 0.5, borderBottom: 1, borderColor: "divider" }}
        >
          <Box sx={{ fontWeight: 600, width: 260, overflowWrap: "anywhere" }}>{asset.name}</Box>
          <Box sx={{ width: 60, color: "text.secondary" }}>{KINDS[asset.kind]}</Box>
          <Box sx={{ flex: 1, color: "text.secondary" }}>{asset.detail}</Box>
          {asset.id != null && (
            <Button
              color="inherit"
              title="What calls it by name cannot be made any more"
              onClick={() => {
                if (asset.id != null) api.removeAsset(asset.id).catch(refuse);
              }}
            >
              Remove
            </Button>
          )}
        </Box>
      ))}
      <Button component="label" variant="outlined" sx={{ mt: 1.5 }}>
        Add LUTs or watermarks
        <input
          type="file"
          hidden
          multiple
          accept=".cube,.png,image/png"
          data-testid="add-assets"
          onChange={(event) => {
            void add(event.target.files);
            event.target.value = "";
          }}
        />
      </Button>
    </Part>
  );
}

/** How much runs at once, and how long files may wait. */
function Slots() {
  const { data: settings } = useQuery({ queryKey: keys.settings, queryFn: api.settings });
  const client = useQueryClient();
  const { tell, refuse } = useTell();
  const save = (change: Partial<Settings>) => {
    if (!settings) return;
    api
      .saveSettings({ ...settings, ...change })
      .then(async () => {
        await client.invalidateQueries({ queryKey: keys.settings });
        tell("Saved: it counts from now on.", async () => {
          await api.saveSettings(settings);
          await client.invalidateQueries({ queryKey: keys.settings });
        });
      })
      .catch(refuse);
  };
  return (
    <>
      <Part
        title="Job slots"
        about="How many jobs run at the same time. Two fill each other's gaps on a small machine."
      >
        <TextField
          key={settings?.engine_slots}
          size="small"
          type="number"
          defaultValue={settings?.engine_slots}
          slotProps={{ htmlInput: { min: 1, max: 64, "aria-label": "Job slots" } }}
          onBlur={(event) => {
            if (Number(event.target.value) !== settings?.engine_slots)
              save({ engine_slots: Number(event.target.value) });
          }}
        />
      </Part>
      <Part
        title="Withheld files"
        about="A file that is not as planned waits until you release or discard it. After so many days the queue points it out; none is removed by itself."
      >
        <TextField
          key={settings?.withheld_days}
          size="small"
          type="number"
          label="Days"
          defaultValue={settings?.withheld_days}
          slotProps={{ htmlInput: { min: 1, max: 365, "aria-label": "Days before a withheld file is pointed out" } }}
          onBlur={(event) => {
            if (Number(event.target.value) !== settings?.withheld_days)
              save({ withheld_days: Number(event.target.value) });
          }}
        />
      </Part>
      <Part title="Time zone" about="All times are those of the house, wherever they are looked at from.">
        <Autocomplete
          key={settings?.time_zone}
          size="small"
          disableClearable
          options={Intl.supportedValuesOf("timeZone")}
          defaultValue={settings?.time_zone ?? "UTC"}
          onChange={(_, zone) => {
            save({ time_zone: zone });
          }}
          renderInput={(props) => <TextField {...props} label="Time zone" />}
          sx={{ maxWidth: 320 }}
        />
      </Part>
    </>
  );
}

function LookChoice() {
  const { look, change } = useContext(LookContext);
  return (
    <Part title="Theme" about="Both are neutral, so that pictures are judged against grey.">
      <ToggleButtonGroup
        exclusive
        size="small"
        value={look}
        onChange={(_, next: Look | null) => {
          if (next) change(next);
        }}
        aria-label="Look"
      >
        <ToggleButton value="light">Day</ToggleButton>
        <ToggleButton value="dark">Night</ToggleButton>
        <ToggleButton value="system">System</ToggleButton>
      </ToggleButtonGroup>
    </Part>
  );
}

function Notices() {
  const [permission, setPermission] = useState(canNotify);
  const words = {
    granted: "The browser tells you.",
    denied: "This browser was told not to; its own settings for this page change that.",
    default: "",
    unknown: "This browser has no notices.",
  };
  return (
    <Part
      title="Notifications"
      about="When the last file of a sheet is done, the browser can tell, also while another window is in front."
    >
      {permission === "default" ? (
        <Button
          variant="outlined"
          onClick={() => {
            void Notification.requestPermission().then(setPermission);
          }}
        >
          Tell me when a sheet is done
        </Button>
      ) : (
        words[permission]
      )}
    </Part>
  );
}
