import { Box, Button, Collapse, Link, Paper, Tooltip, Typography } from "@mui/material";
import { useState } from "react";
import type { TakeInfo } from "../shared/api";
import { useActions } from "./actions";
import { goToFinding, tryRepair } from "./repairs";
import { useBench, usePick } from "./state";

/** All open findings: what is wrong, where, how much, and what can be done about it. */
export function Findings({ info }: { info: TakeInfo }) {
  const { wish, focus } = usePick("wish", "focus");
  const frame = useBench((s) => (s.playing ? NaN : s.frame));
  const { mark } = useActions();
  const [shown, setShown] = useState(false);
  const trying = new Set(wish?.operation === "repair" ? wish.findings : []);
  const first = info.findings[0];
  return (
    <Paper variant="outlined" component="section" aria-label="Findings" data-testid="findings" sx={{ p: 1.25, width: 300, maxHeight: "100%", overflow: "auto" }}>
      <Box sx={{ display: "flex", alignItems: "baseline", gap: 1 }}>
        <Typography component="h2" sx={{ fontWeight: 700, fontSize: 14, flexGrow: 1 }}>
          {first ? `▲ ${info.findings.length} ${info.findings.length === 1 ? "finding" : "findings"}` : "✓ No open findings"}
        </Typography>
        {info.findings.length > 1 && (
          <Tooltip title="Try the repairs of all findings (Shift+R)">
            <Button size="small" onClick={() => tryRepair(info.findings)}>
              Repair all
            </Button>
          </Tooltip>
        )}
      </Box>
      {first && !wish && (
        <Typography data-testid="first-step" sx={{ fontSize: 12.5, color: "text.secondary", mb: 0.5 }}>
          Press Repair, or drag along the strand from the spike on; look at the ghost and the proof, then press Enter.
        </Typography>
      )}
      <Box component="ul" sx={{ m: 0, p: 0, listStyle: "none" }}>
        {info.findings.map((f) => {
          const here = focus?.part === f.part && focus.member === f.member && frame >= f.frame && frame <= f.last;
          return (
            <Box component="li" key={f.key} sx={{ borderTop: 1, borderColor: "divider", py: 0.5, bgcolor: trying.has(f.key) ? "action.selected" : undefined }}>
              <Link component="button" underline="hover" onClick={() => goToFinding(f)} sx={{ fontSize: 13, textAlign: "left", fontWeight: here ? 700 : 500, color: "text.primary" }}>
                {f.sentence}
              </Link>
              <Box sx={{ display: "flex", gap: 0.5 }}>
                {f.repairable && (
                  <Button size="small" sx={{ py: 0 }} onClick={() => tryRepair([f])} aria-label={`Repair: ${f.sentence}`}>
                    Repair
                  </Button>
                )}
                <Button size="small" sx={{ py: 0, color: "text.secondary" }} onClick={() => mark(f.key, true)} aria-label={`This is wanted: ${f.sentence}`}>
                  This is wanted
                </Button>
              </Box>
            </Box>
          );
        })}
      </Box>
      {info.wanted.length > 0 && (
        <>
          <Link component="button" underline="hover" onClick={() => setShown(!shown)} aria-expanded={shown} sx={{ fontSize: 12.5, mt: 0.5 }}>
            {shown ? "▾" : "▸"} {info.wanted.length} wanted as {info.wanted.length === 1 ? "it is" : "they are"}
          </Link>
          <Collapse in={shown}>
            {info.wanted.map((f) => (
              <Typography key={f.key} sx={{ fontSize: 12.5 }}>
                {f.sentence}{" "}
                <Link component="button" underline="hover" onClick={() => mark(f.key, false)}>
                  open again
                </Link>
              </Typography>
            ))}
          </Collapse>
        </>
      )}
    </Paper>
  );
}
