/** Settings: storages, engine slots, the look. */
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, type ReactNode, useContext, useState } from "react";
import { api } from "../api/client";
import { keys } from "../api/live";
import { Bar } from "../shared/Bar";
import { type Look, LookContext } from "../shared/look";
import { canNotify } from "../shared/notices";
import { useTell } from "../shared/messages";
import { sizeText } from "../shared/words";

export default function SettingsPage() {
  return (
    <>
      <Bar title="Settings" />
      <Box sx={{ flex: 1, overflow: "auto", p: 3, display: "flex", flexDirection: "column", gap: 4, maxWidth: 860 }}>
        <Storages />
        <Slots />
        <LookChoice />
        <Notices />
      </Box>
    </>
  );
}

function Part({ title, about, children }: { title: string; about: string; children: ReactNode }) {
  return (
    <section>
      <Box component="h2" sx={{ fontSize: 15, fontWeight: 700, m: 0 }}>{title}</Box>
      <Box sx={{ color: "text.secondary", mb: 1.5 }}>{about}</Box>
      {children}
    </section>
  );
}

function Storages() {
  const { data: storages = [] } = useQuery({ queryKey: keys.storages, queryFn: api.storages, staleTime: 0 });
  const [name, setName] = useState("");
  const [root, setRoot] = useState("");
  const client = useQueryClient();
  const { refuse } = useTell();
  const refresh = () => client.invalidateQueries({ queryKey: keys.storages });
  const add = (event: FormEvent) => {
    event.preventDefault();
    api
      .addStorage(name, root)
      .then(() => {
        setName("");
        setRoot("");
        return refresh();
      })
      .catch(refuse);
  };
  return (
    <Part title="Storages" about="Folders of this machine that Beryl may read from and write to. Nothing outside them can be reached.">
      {storages.map((storage) => (
        <Box key={storage.id} sx={{ display: "flex", alignItems: "center", gap: 2, py: 0.75, borderBottom: 1, borderColor: "divider" }}>
          <Box sx={{ fontWeight: 600, width: 180 }}>{storage.name}</Box>
          <Box sx={{ flex: 1, color: "text.secondary", overflowWrap: "anywhere" }}>{storage.root}</Box>
          <Box sx={{ color: "text.secondary" }}>{storage.free == null ? "cannot be reached" : `${sizeText(storage.free)} free`}</Box>
          <Button color="inherit" title="The storage is forgotten; its files stay." onClick={() => { api.removeStorage(storage.id).then(refresh).catch(refuse); }}>
            Forget
          </Button>
        </Box>
      ))}
      <Box component="form" onSubmit={add} sx={{ display: "flex", gap: 1.5, mt: 2 }}>
        <TextField size="small" label="Name" value={name} onChange={(event) => { setName(event.target.value); }} />
        <TextField size="small" label="Folder on this machine" value={root} onChange={(event) => { setRoot(event.target.value); }} sx={{ flex: 1 }} />
        <Button type="submit" variant="outlined" disabled={name === "" || root === ""}>Add</Button>
      </Box>
    </Part>
  );
}

function Slots() {
  const { data: settings } = useQuery({ queryKey: ["settings"], queryFn: api.settings });
  const client = useQueryClient();
  const { tell, refuse } = useTell();
  const save = (slots: number) => {
    api
      .saveSettings({ engine_slots: slots })
      .then(async () => {
        await client.invalidateQueries({ queryKey: ["settings"] });
        tell("Saved: it counts from now on.");
      })
      .catch(refuse);
  };
  return (
    <Part title="Engine slots" about="How many jobs run at the same time. Two fill each other's gaps on a small machine.">
      <TextField key={settings?.engine_slots} size="small" type="number" defaultValue={settings?.engine_slots} slotProps={{ htmlInput: { min: 1, max: 64, "aria-label": "Engine slots" } }} onBlur={(event) => { if (Number(event.target.value) !== settings?.engine_slots) save(Number(event.target.value)); }} />
    </Part>
  );
}

function LookChoice() {
  const { look, change } = useContext(LookContext);
  return (
    <Part title="Look" about="Both are neutral, so that pictures are judged against grey.">
      <ToggleButtonGroup exclusive size="small" value={look} onChange={(_, next: Look | null) => { if (next) change(next); }} aria-label="Look">
        <ToggleButton value="light">Day</ToggleButton>
        <ToggleButton value="dark">Night</ToggleButton>
        <ToggleButton value="system">As the system</ToggleButton>
      </ToggleButtonGroup>
    </Part>
  );
}

function Notices() {
  const [permission, setPermission] = useState(canNotify);
  const words = { granted: "The browser tells you.", denied: "This browser was told not to; its own settings for this page change that.", default: "", unknown: "This browser has no notices." };
  return (
    <Part title="Notices" about="When the last file of a sheet is done, the browser can tell, also while another window is in front.">
      {permission === "default" ? (
        <Button variant="outlined" onClick={() => { void Notification.requestPermission().then(setPermission); }}>Tell me when a sheet is done</Button>
      ) : (
        words[permission]
      )}
    </Part>
  );
}
