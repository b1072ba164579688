/** The finished files of a run: where they are, when they were made, and how they come to this computer. */
import { styled } from "@mui/material/styles";
import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";
import { api, type Run } from "../api/client";
import { keys } from "../api/live";
import { useTell } from "../shared/messages";
import { dayText, spanText } from "../shared/words";

const File = styled("div")(({ theme: { palette, spacing } }) => ({
  display: "flex",
  alignItems: "center",
  gap: spacing(0.5),
  color: palette.text.secondary,
  "& > span": { flex: 1, minWidth: 0, overflowWrap: "anywhere" },
}));

export function MadeFiles({ run }: { run: Run }) {
  const { data: storages = [] } = useQuery({ queryKey: keys.storages, queryFn: api.storages });
  const { tell, refuse } = useTell();
  const root = storages.find((storage) => storage.id === run.storage)?.root;
  const copy = (path: string) => {
    const whole = root === undefined ? path : `${root}/${path}`;
    navigator.clipboard
      .writeText(whole)
      .then(() => {
        tell(`${whole} is copied.`);
      })
      .catch(refuse);
  };
  const finished = run.finished ? new Date(run.finished) : null;
  const took = finished && run.started ? (finished.getTime() - new Date(run.started).getTime()) / 1000 : null;
  return (
    <>
      {[run.path, ...(run.beside ?? [])].map((path, place) => (
        <File key={path}>
          <span>{path}</span>
          <Button
            color="inherit"
            component="a"
            href={api.mediaOf(run.id, place)}
            download={path.split("/").at(-1)}
            aria-label={`Download ${path}`}
          >
            Download
          </Button>
          <Button
            color="inherit"
            aria-label={`Copy path of ${path}`}
            onClick={() => {
              copy(path);
            }}
          >
            Copy path
          </Button>
        </File>
      ))}
      {finished && (
        <File>
          <span>
            made {dayText(finished)}
            {took !== null && `, in ${spanText(took)}`}
          </span>
        </File>
      )}
    </>
  );
}
