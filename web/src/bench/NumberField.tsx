import { TextField } from "@mui/material";
import { useState } from "react";

interface NumberProps {
  label: string;
  value: number;
  onChange: (value: number) => void;
  whole?: boolean;
  least?: number;
  most?: number;
  width?: number;
  /** Only Enter and leaving the field count, not every stroke. */
  late?: boolean;
}

/** A number that may be typed: what can't be read yet stays in the field and changes nothing. */
export function NumberField({ label, value, onChange, whole = false, least = -1e6, most = 1e6, width = 52, late = false }: NumberProps) {
  const [typed, setTyped] = useState<string | null>(null);
  const text = typed ?? String(value);
  const n = Number(text);
  const fine = text.trim() !== "" && Number.isFinite(n) && n >= least && n <= most && (!whole || Number.isInteger(n));
  const commit = () => {
    if (fine && n !== value) onChange(n);
    setTyped(null);
  };
  return (
    <TextField
      size="small"
      variant="standard"
      value={text}
      error={!fine}
      onKeyDown={(e) => {
        if (e.key === "Enter" && late) {
          e.stopPropagation();
          commit();
        } else if (e.key === "Escape" && late) {
          e.stopPropagation();
          setTyped(null);
          (e.target as HTMLElement).blur();
        } else if (e.key !== "Escape" && e.key !== "Enter") e.stopPropagation();
      }}
      onChange={(e) => {
        setTyped(e.target.value);
        const now = Number(e.target.value);
        if (!late && e.target.value.trim() !== "" && Number.isFinite(now) && now >= least && now <= most && (!whole || Number.isInteger(now))) onChange(now);
      }}
      onFocus={(e) => late && e.target.select()}
      onBlur={() => (late ? commit() : setTyped(null))}
      slotProps={{ input: { disableUnderline: late }, htmlInput: { inputMode: "decimal", "aria-label": label, style: { width, textAlign: "right", fontSize: 12.5, padding: 0 } } }}
    />
  );
}
