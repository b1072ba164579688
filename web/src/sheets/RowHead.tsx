import Box from "@mui/material/Box";
import { memo } from "react";
import { Link } from "react-router";
import type { SourceRow } from "../api/client";
import { ClipSign } from "../shared/icons";
import { clipped, MONO } from "../shared/theme";
import { marked } from "./grid";

/** The head of a row: the source, and what is known of it. */
export const RowHead = memo(function RowHead({ sheet, source }: { sheet: string; source: SourceRow }) {
  const name = source.folder ? `${source.folder}/${source.name}` : source.name;
  return (
    <Box
      role="rowheader"
      title={source.problem ? `${source.problem.why}. ${source.problem.next}` : [name, ...source.findings].join("\n")}
      aria-colindex={1}
      {...marked({ row: source.id })}
      sx={{
        display: "flex",
        alignItems: "center",
        gap: 1.1,
        px: 1,
        minWidth: 0,
        bgcolor: "background.paper",
        position: "relative",
        cursor: "pointer",
        "&:hover": { bgcolor: "action.hover" },
        "&:hover a, & a:focus-visible": { opacity: 1 },
      }}
    >
      <Box
        sx={{
          width: 56,
          height: 32,
          flex: "none",
          borderRadius: 0.75,
          overflow: "hidden",
          bgcolor: "action.selected",
          display: "grid",
          placeItems: "center",
          color: "text.secondary",
        }}
      >
        {source.has_thumbnail ? (
          <img
            src={`/api/sources/${source.id}/thumbnail`}
            alt=""
            width={56}
            height={32}
            style={{ objectFit: "cover" }}
          />
        ) : (
          <ClipSign />
        )}
      </Box>
      <Box sx={{ minWidth: 0, flex: 1 }}>
        <Box sx={{ fontWeight: 600, direction: "rtl", textAlign: "left", ...clipped }}>
          <bdi>{name}</bdi>
        </Box>
        <Box
          sx={{
            display: "flex",
            justifyContent: "space-between",
            gap: 1,
            fontSize: 12,
            color: source.problem ? "error.main" : "text.secondary",
          }}
        >
          <Box sx={clipped}>{source.problem?.why ?? source.summary ?? "being read …"}</Box>
          <Box
            sx={{ fontFamily: MONO, fontSize: 11, flex: "none", color: source.taken ? "primary.main" : undefined }}
            title={source.taken ? `marked: ${source.taken} of ${source.duration ?? ""} is taken` : undefined}
          >
            {source.taken ?? source.duration}
          </Box>
        </Box>
      </Box>
      <Box
        component={Link}
        to={`/sheets/${sheet}/sources/${source.id}`}
        tabIndex={-1}
        title="Open the bench: what it is, and how it is mended (B)"
        sx={{
          position: "absolute",
          top: 4,
          right: 6,
          px: 0.75,
          borderRadius: 1,
          fontSize: 12,
          opacity: 0,
          bgcolor: "action.selected",
          color: "primary.main",
          textDecoration: "none",
        }}
      >
        Bench
      </Box>
    </Box>
  );
});
