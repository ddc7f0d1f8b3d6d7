import { TextField } from "@mui/material";

interface Props {
  label: string;
  value: string;
  placeholder?: string;
  onDone: (text: string) => void;
}

/** A name being given: Enter or leaving the field takes it. */
export function NameField({ label, value, placeholder = "", onDone }: Props) {
  return (
    <TextField
      size="small"
      variant="standard"
      autoFocus
      fullWidth
      defaultValue={value}
      placeholder={placeholder}
      onBlur={(e) => onDone(e.target.value)}
      onKeyDown={(e) => e.key === "Enter" && (e.target as HTMLElement).blur()}
      slotProps={{ htmlInput: { "aria-label": label, maxLength: 120 } }}
    />
  );
}
