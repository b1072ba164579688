/** All sheets. */
import { styled } from "@mui/material/styles";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";
import { lazy, useState } from "react";
import { useNavigate } from "react-router";
import { api, type SheetItem } from "../api/client";
import { keys } from "../api/live";
import { useActions } from "../shared/actions";
import { Bar } from "../shared/Bar";
import { Facet } from "../shared/Facet";
import { Pending } from "../shared/Pending";
import { useTell } from "../shared/messages";
import { plural } from "../shared/words";

const StorageDialog = lazy(() => import("../settings/StorageDialog"));

const Card = styled("button")(({ theme: { palette, spacing } }) => ({
  font: "inherit",
  color: "inherit",
  textAlign: "left",
  backgroundColor: palette.background.paper,
  border: `1px solid ${palette.divider}`,
  borderRadius: 16,
  padding: spacing(2),
  display: "flex",
  gap: spacing(2),
  alignItems: "center",
  cursor: "pointer",
  "&:hover": { borderColor: palette.primary.main },
}));

export function SheetsPage() {
  const { data: sheets, error, refetch } = useQuery({ queryKey: keys.sheets, queryFn: api.sheets, staleTime: 0 });
  const { data: storages } = useQuery({ queryKey: keys.storages, queryFn: api.storages, staleTime: 0 });
  const [isChoosing, setChoosing] = useState(false);
  const navigate = useNavigate();
  const { refuse } = useTell();
  const begin = async () => {
    try {
      const sheet = await api.addSheet(`Sheet of ${new Date().toISOString().slice(0, 10)}`);
      await navigate(`/sheets/${sheet.id}`);
    } catch (error) {
      refuse(error);
    }
  };
  useActions([{ name: "New sheet", key: "n", run: () => void begin() }]);
  const action = (
    <Button variant="contained" onClick={() => void begin()} title="New sheet (N)">
      New sheet
    </Button>
  );
  return (
    <>
      <Bar title="Sheets" detail={sheets && plural(sheets.length, "sheet")}>
        {action}
      </Bar>
      <Box sx={{ flex: 1, overflow: "auto", p: 3 }}>
        {!sheets && <Pending error={error} onAgain={() => void refetch()} />}
        {sheets?.length === 0 && (
          <Box sx={{ maxWidth: 460, mx: "auto", mt: 10, textAlign: "center", color: "text.secondary" }}>
            <Box sx={{ display: "grid", placeItems: "center", mb: 2 }}>
              <Facet state="idle" size={48} />
            </Box>
            <p>
              {storages?.length === 0 &&
                "Beryl reads and writes in the folders that you give it, and nowhere else: choose the first one. "}
              A sheet is one batch of work: your sources are its rows, what they shall become its columns, and each cell
              is a file.
            </p>
            {storages?.length === 0 ? (
              <Button
                variant="contained"
                data-testid="first-storage"
                onClick={() => {
                  setChoosing(true);
                }}
              >
                Choose where your media are
              </Button>
            ) : (
              action
            )}
          </Box>
        )}
        {isChoosing && (
          <StorageDialog
            onClose={() => {
              setChoosing(false);
            }}
          />
        )}
        <Box sx={{ display: "grid", gap: 1.5, gridTemplateColumns: "repeat(auto-fill, minmax(320px, 1fr))" }}>
          {sheets?.map((sheet) => (
            <SheetTile key={sheet.id} sheet={sheet} onOpen={() => void navigate(`/sheets/${sheet.id}`)} />
          ))}
        </Box>
      </Box>
    </>
  );
}

function SheetTile({ sheet, onOpen }: { sheet: SheetItem; onOpen: () => void }) {
  const cells = sheet.sources * sheet.deliverables;
  const state =
    sheet.failed > 0
      ? "failed"
      : sheet.withheld > 0
        ? "withheld"
        : sheet.open > 0
          ? "running"
          : cells > 0 && sheet.done >= cells
            ? "done"
            : "idle";
  const parts = [
    `${String(sheet.sources)} × ${String(sheet.deliverables)}`,
    `${String(sheet.done)} made`,
    sheet.open > 0 && `${String(sheet.open)} open`,
    sheet.failed > 0 && `${String(sheet.failed)} failed`,
    sheet.withheld > 0 && `${String(sheet.withheld)} withheld`,
    sheet.created.slice(0, 10),
  ].filter(Boolean);
  return (
    <Card data-sheet={sheet.id} onClick={onOpen}>
      <Facet state={state} fraction={cells > 0 ? sheet.done / cells : 0} size={34} />
      <Box sx={{ minWidth: 0 }}>
        <Box sx={{ fontWeight: 700, fontSize: 15 }}>{sheet.name}</Box>
        <Box sx={{ color: "text.secondary", fontSize: 13 }}>{parts.join(" · ")}</Box>
      </Box>
    </Card>
  );
}
