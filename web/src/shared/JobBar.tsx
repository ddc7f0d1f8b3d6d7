import { Box, LinearProgress, Typography } from "@mui/material";
import type { Job } from "./api";
import { progressOf } from "./jobs";

/** How far a job is. */
export function JobBar({ job, label }: { job: Job | null; label: string }) {
  const known = job !== null && job.done > 0;
  return (
    <Box aria-live="polite">
      <LinearProgress variant={known ? "determinate" : "indeterminate"} value={100 * (job?.done ?? 0)} aria-label={label} />
      <Typography sx={{ fontSize: 12.5, mt: 0.5, fontVariantNumeric: "tabular-nums" }}>{progressOf(job)}</Typography>
    </Box>
  );
}
