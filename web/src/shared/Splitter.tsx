import { Box } from "@mui/material";
import { follow } from "./drag";

interface Props {
  label: string;
  /** Height of what lies below it, pixels. */
  value: number;
  least: number;
  most: () => number;
  onChange: (height: number) => void;
}

/** A line between two panels that is dragged, or moved by the arrows, to give one what the other has. */
export function Splitter({ label, value, least, most, onChange }: Props) {
  const give = (height: number) => onChange(Math.round(Math.min(Math.max(height, least), most())));
  return (
    <Box
      role="separator"
      aria-orientation="horizontal"
      aria-label={label}
      aria-valuenow={value}
      aria-valuemin={least}
      tabIndex={0}
      onPointerDown={(event) => {
        event.preventDefault();
        follow((e) => give(value - (e.clientY - event.clientY)));
      }}
      onKeyDown={(e) => {
        const by = { ArrowUp: 16, ArrowDown: -16 }[e.key];
        if (!by) return;
        e.stopPropagation();
        e.preventDefault();
        give(value + by);
      }}
      sx={{ height: 5, cursor: "ns-resize", touchAction: "none", bgcolor: "divider", "&:hover, &:focus-visible": { bgcolor: "primary.main" } }}
    />
  );
}
