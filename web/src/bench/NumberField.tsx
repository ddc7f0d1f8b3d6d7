import { useTheme } from "@mui/material";
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

/** A number that may be typed: what can't be read yet stays in the field and changes nothing. A plain field: a card has dozens, which
 * are drawn anew at every frame. */
export function NumberField({ label, value, onChange, whole = false, least = -1e6, most = 1e6, width = 52, late = false }: NumberProps) {
  const { ink } = useTheme();
  const [typed, setTyped] = useState<string | null>(null);
  const text = typed ?? String(value);
  const n = Number(text);
  const fine = text.trim() !== "" && Number.isFinite(n) && n >= least && n <= most && (!whole || Number.isInteger(n));
  const commit = () => {
    if (fine && n !== value) onChange(n);
    setTyped(null);
  };
  return (
    <input
      value={text}
      inputMode="decimal"
      aria-label={label}
      aria-invalid={!fine}
      style={{ width, textAlign: "right", font: "inherit", fontSize: 12.5, padding: 0, border: 0, borderBottom: late && fine ? 0 : `1px solid ${fine ? ink.soft : ink.alarm}`, background: "none", color: fine ? "inherit" : ink.alarm }}
      onKeyDown={(e) => {
        if (e.key === "Enter" && late) {
          e.stopPropagation();
          commit();
        } else if (e.key === "Escape" && late) {
          e.stopPropagation();
          setTyped(null);
          e.currentTarget.blur();
        } else if (e.key !== "Escape" && e.key !== "Enter") e.stopPropagation();
      }}
      onChange={(e) => {
        setTyped(e.target.value);
        const now = Number(e.target.value);
        if (!late && e.target.value.trim() !== "" && Number.isFinite(now) && now >= least && now <= most && (!whole || Number.isInteger(now))) onChange(now);
      }}
      onFocus={(e) => late && e.target.select()}
      onBlur={() => (late ? commit() : setTyped(null))}
    />
  );
}
