import { MenuItem, Select } from "@mui/material";
import { useState } from "react";
import { chosen, READINGS } from "./captures";

/** How captures are read where their files do not say; what is chosen stays chosen on this machine. */
export function Readings() {
  const [readings, setReadings] = useState(() => Object.fromEntries(READINGS.map((r) => [r.key, chosen(r.key)])));
  return READINGS.map((reading) => (
    <Select
      key={reading.key}
      size="small"
      variant="standard"
      displayEmpty
      value={readings[reading.key] ?? ""}
      onChange={(e) => {
        localStorage.setItem(reading.key, e.target.value);
        setReadings({ ...readings, [reading.key]: e.target.value });
      }}
      inputProps={{ "aria-label": reading.label }}
      sx={{ fontSize: 14 }}
    >
      {reading.values.map(([value, label]) => (
        <MenuItem key={value} value={value}>
          {label}
        </MenuItem>
      ))}
    </Select>
  ));
}
