/** The versions in which a preset of the house was saved. */
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import { styled } from "@mui/material/styles";
import { useQuery } from "@tanstack/react-query";
import { api, type Preset, type PresetVersion, type Setting } from "../api/client";
import { keys } from "../api/live";
import { useCatalogue, valueAt } from "../catalogue/catalogue";
import { Pending } from "../shared/Pending";
import { dayText, plural } from "../shared/words";

const Version = styled("div")(({ theme: { palette, spacing } }) => ({
  display: "flex",
  alignItems: "center",
  gap: spacing(2),
  padding: spacing(1, 0),
  borderBottom: `1px solid ${palette.divider}`,
  "& > div": { flex: 1, minWidth: 0 },
  "& b": { fontWeight: 600 },
  "& small": { display: "block", fontSize: 12, color: palette.text.secondary },
}));

/** The names of the settings in which two presets differ. */
export function differences(one: Preset, other: Preset, settings: Setting[]): string[] {
  return settings
    .filter(({ place }) => JSON.stringify(valueAt(one, place)) !== JSON.stringify(valueAt(other, place)))
    .map((setting) => setting.name);
}

/** What a version changed, in a few words. */
function changed(version: PresetVersion, before: PresetVersion | undefined, settings: Setting[]): string {
  if (!before) return "the first";
  const names = differences(version.preset, before.preset, settings);
  if (names.length === 0) return "the same settings";
  return names.length > 4
    ? `${names.slice(0, 4).join(", ")} and ${plural(names.length - 4, "other")} changed`
    : `${names.join(", ")} changed`;
}

interface Props {
  preset: Preset;
  /** Opens a version to be looked at, changed and saved. */
  onOpen: (version: Preset) => void;
  onClose: () => void;
}

export function VersionsDialog({ preset, onOpen, onClose }: Props) {
  const { data, error, refetch } = useQuery({
    queryKey: keys.presetVersions(preset.id),
    queryFn: () => api.presetVersions(preset.id),
  });
  const settings = useCatalogue().flatMap((section) => section.settings);
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="sm" aria-labelledby="versions">
      <DialogTitle id="versions">Versions of {preset.name}</DialogTitle>
      <DialogContent>
        {!data && <Pending error={error} onAgain={() => void refetch()} />}
        {data?.map((version, place) => (
          <Version key={version.number} data-testid="version">
            <div>
              <b>{version.number}</b> · {version.preset.name}
              <small>
                {dayText(new Date(version.saved))} · {changed(version, data[place + 1], settings)}
              </small>
            </div>
            {place === 0 ? (
              "Current"
            ) : (
              <Button
                variant="outlined"
                onClick={() => {
                  onOpen(version.preset);
                }}
              >
                Open
              </Button>
            )}
          </Version>
        ))}
      </DialogContent>
      <DialogActions>
        <Button color="inherit" onClick={onClose}>
          Close
        </Button>
      </DialogActions>
    </Dialog>
  );
}
