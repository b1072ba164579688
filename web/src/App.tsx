/** The frame of the page: the rail, the place that is open, and messages. */
import { ThemeProvider, styled } from "@mui/material/styles";
import Box from "@mui/material/Box";
import CssBaseline from "@mui/material/CssBaseline";
import useMediaQuery from "@mui/material/useMediaQuery";
import { lazy, type ReactNode, Suspense, useContext, useMemo, useState } from "react";
import { ErrorBoundary, type FallbackProps } from "react-error-boundary";
import { Navigate, NavLink, Route, Routes, useLocation, useNavigate } from "react-router";
import { useQuery } from "@tanstack/react-query";
import { api } from "./api/client";
import { keys } from "./api/live";
import { setHouseZone } from "./shared/words";
import { useActions } from "./shared/actions";
import { Commands } from "./shared/Commands";
import { Connection } from "./shared/Connection";
import { PresetSign, QueueSign, SettingSign, SheetSign, WatchSign } from "./shared/icons";
import { Messages } from "./shared/Messages";
import { Pending } from "./shared/Pending";
import { themeOf } from "./shared/theme";
import { type Look, LookContext, storedLook, storeLook } from "./shared/look";
import { SheetsPage } from "./sheets/SheetsPage";
import { Uploads } from "./uploads/Uploads";

const SheetPage = lazy(() => import("./sheets/SheetPage"));
const BenchPage = lazy(() => import("./bench/BenchPage"));
const ProofPage = lazy(() => import("./proof/ProofPage"));
const WatchPage = lazy(() => import("./watch/WatchPage"));
const QueuePage = lazy(() => import("./queue/QueuePage"));
const PresetsPage = lazy(() => import("./presets/PresetsPage"));
const SettingsPage = lazy(() => import("./settings/SettingsPage"));

const PLACES: { path: string; name: string; sign: ReactNode }[] = [
  { path: "/sheets", name: "Sheets", sign: <SheetSign /> },
  { path: "/watch", name: "Watch", sign: <WatchSign /> },
  { path: "/queue", name: "Queue", sign: <QueueSign /> },
  { path: "/presets", name: "Presets", sign: <PresetSign /> },
  { path: "/settings", name: "Settings", sign: <SettingSign /> },
];

function Rail() {
  const navigate = useNavigate();
  const { look, change } = useContext(LookContext);
  useActions([
    ...PLACES.map((place, number) => ({
      name: `Go to ${place.name}`,
      key: String(number + 1),
      run: () => void navigate(place.path),
    })),
    {
      name: look === "light" ? "Dark theme" : "Light theme",
      run: () => {
        change(look === "light" ? "dark" : "light");
      },
    },
  ]);
  return (
    <RailBar aria-label="Places">
      <Box sx={{ height: 36, color: "primary.main" }}>
        <img src="/facet.svg" alt="Beryl" width={28} height={28} />
      </Box>
      {PLACES.map((place, number) => (
        <PlaceLink key={place.path} to={place.path} title={`${place.name} (${String(number + 1)})`}>
          {place.sign}
          {place.name}
        </PlaceLink>
      ))}
    </RailBar>
  );
}

/** What stands where a part of the page has failed. What is loaded and queued is not touched by it. */
function Broken({ error }: FallbackProps) {
  return (
    <Pending
      error={error}
      onAgain={() => {
        window.location.reload();
      }}
    />
  );
}

const PlaceLink = styled(NavLink)(({ theme: { palette, spacing } }) => ({
  width: 60,
  padding: spacing(0.9, 0),
  borderRadius: 16,
  display: "flex",
  flexDirection: "column",
  alignItems: "center",
  gap: spacing(0.3),
  fontSize: 11,
  color: palette.text.secondary,
  textDecoration: "none",
  "&:hover": { backgroundColor: palette.background.paper },
  "&.active": {
    backgroundColor: palette.action.selected,
    color: palette.text.primary,
    "& svg": { color: palette.primary.main },
  },
}));

const RailBar = styled("nav")(({ theme: { palette, spacing } }) => ({
  width: 68,
  flex: "none",
  borderRight: `1px solid ${palette.divider}`,
  display: "flex",
  flexDirection: "column",
  gap: spacing(0.5),
  alignItems: "center",
  padding: spacing(1.25, 0),
}));

export function App() {
  const { pathname } = useLocation();
  const { data: settings } = useQuery({ queryKey: keys.settings, queryFn: api.settings });
  setHouseZone(settings?.time_zone ?? undefined);
  const prefersDark = useMediaQuery("(prefers-color-scheme: dark)");
  const [look, setLook] = useState<Look>(storedLook);
  const mode = look === "system" ? (prefersDark ? "dark" : "light") : look;
  const theme = useMemo(() => themeOf(mode), [mode]);
  const change = (next: Look) => {
    storeLook(next);
    setLook(next);
  };
  return (
    <ThemeProvider theme={theme}>
      <CssBaseline enableColorScheme />
      <LookContext value={{ look, change }}>
        <Commands>
          <Messages>
            <Uploads>
              <Box sx={{ display: "flex", height: "100vh" }}>
                <Rail />
                <Box component="main" sx={{ flex: 1, minWidth: 0, display: "flex", flexDirection: "column" }}>
                  <Connection />
                  <ErrorBoundary FallbackComponent={Broken} resetKeys={[pathname]}>
                    <Suspense fallback={<Pending error={null} />}>
                      <Routes>
                        <Route path="/" element={<Navigate to="/sheets" replace />} />
                        <Route path="/sheets" element={<SheetsPage />} />
                        <Route path="/sheets/:id" element={<SheetPage />} />
                        <Route path="/sheets/:id/sources/:source" element={<BenchPage />} />
                        <Route path="/sheets/:id/proof/:source/:deliverable" element={<ProofPage />} />
                        <Route path="/watch" element={<WatchPage />} />
                        <Route path="/queue" element={<QueuePage />} />
                        <Route path="/presets" element={<PresetsPage />} />
                        <Route path="/settings" element={<SettingsPage />} />
                        <Route path="*" element={<Navigate to="/sheets" replace />} />
                      </Routes>
                    </Suspense>
                  </ErrorBoundary>
                </Box>
              </Box>
            </Uploads>
          </Messages>
        </Commands>
      </LookContext>
    </ThemeProvider>
  );
}
