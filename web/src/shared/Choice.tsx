/** One of a few, from a list that opens. */
import { styled } from "@mui/material/styles";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";

interface Props<Value extends string> {
  label: string;
  value: Value;
  options: readonly { value: Value; words: string }[];
  onChange: (value: Value) => void;
}

const Narrow = styled(TextField)({ minWidth: 120 });

export function Choice<Value extends string>({ label, value, options, onChange }: Props<Value>) {
  return (
    <Narrow
      select
      size="small"
      label={label}
      value={value}
      onChange={(event) => {
        const chosen = options.find((option) => option.value === event.target.value);
        if (chosen) onChange(chosen.value);
      }}
      slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
    >
      {options.map((option) => (
        <MenuItem key={option.value} value={option.value}>
          {option.words}
        </MenuItem>
      ))}
    </Narrow>
  );
}
