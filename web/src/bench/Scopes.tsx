/** What the codes of the frame at the playhead are: its waveform and its vectorscope, drawn by the engine. */
import { styled } from "@mui/material/styles";
import { stillOf, useNewest } from "./newest";

/** Columns of the widest scope. */
const WIDTH = 512;

const Pair = styled("div")(({ theme: { palette, spacing } }) => ({
  display: "grid",
  gap: spacing(1),
  paddingTop: spacing(1.5),
  "& figure": { margin: 0 },
  "& img": { width: "100%", display: "block", background: "black", borderRadius: 4 },
  "& figcaption": { fontSize: 12, color: palette.text.secondary },
}));

interface Props {
  source: string;
  /** The moment, as an exact fraction of seconds. */
  at: string;
  look: unknown;
}

export function Scopes(props: Props) {
  return (
    <Pair data-testid="scopes-shown">
      <Scope {...props} kind="waveform" name="Waveform: luma, by columns" />
      <Scope {...props} kind="vectorscope" name="Vectorscope: blue to the right, red to the top" />
    </Pair>
  );
}

function Scope({ source, at, look, kind, name }: Props & { kind: string; name: string }) {
  const wanted = stillOf(source, at, WIDTH, look, { scope: kind });
  const shown = useNewest(wanted);
  return (
    <figure data-ready={shown === wanted}>
      {shown && <img src={shown} alt={name} />}
      <figcaption>{name}</figcaption>
    </figure>
  );
}
