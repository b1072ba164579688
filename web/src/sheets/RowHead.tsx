import { memo } from "react";
import { Link } from "react-router";
import type { SourceRow } from "../api/client";
import { ClipSign } from "../shared/icons";
import { marked } from "./gridKeys";

/** The head of a row: the source, and what is known of it. */
export const RowHead = memo(function RowHead({ sheet, source }: { sheet: string; source: SourceRow }) {
  const name = source.folder ? `${source.folder}/${source.name}` : source.name;
  return (
    <div
      role="rowheader"
      className="source"
      title={source.problem ? `${source.problem.why}. ${source.problem.next}` : [name, ...source.findings].join("\n")}
      aria-colindex={1}
      data-failed={source.problem != null}
      {...marked({ row: source.id })}
    >
      <div className="picture">
        {source.has_thumbnail ? (
          <img src={`/api/sources/${source.id}/thumbnail`} alt="" width={56} height={32} />
        ) : (
          <ClipSign />
        )}
      </div>
      <div className="words">
        <b>
          <bdi>{name}</bdi>
        </b>
        <div className="quiet apart">
          <span className="quiet">{source.problem?.why ?? source.summary ?? "reading …"}</span>
          <span
            className="time"
            data-marked={source.taken != null}
            title={source.taken ? `marked: ${source.taken} of ${source.duration ?? ""} is taken` : undefined}
          >
            {source.taken ?? source.duration}
          </span>
        </div>
      </div>
      <Link
        to={`/sheets/${sheet}/sources/${source.id}`}
        tabIndex={-1}
        title="Open the bench: what it is, and how it is mended (B)"
      >
        Bench
      </Link>
    </div>
  );
});
