import { Alert, Box, Button, MenuItem, Select, Typography } from "@mui/material";
import { useEffect, useState } from "react";
import { Mark } from "../shared/Mark";
import { go } from "../shared/route";
import type { TakeInfo } from "../shared/api";
import { useTake, useTrying } from "./actions";
import { Clips } from "./Clips";
import { Findings } from "./Findings";
import { Help } from "./Help";
import { PartCard } from "./PartCard";
import { ProofSlip } from "./ProofSlip";
import { RevisionLine } from "./RevisionLine";
import { useShortcuts } from "./shortcuts";
import { usePick } from "./state";
import { Strands } from "./Strands";
import { Transport, usePlayback } from "./Transport";
import { View } from "./View";

/** The bench: the view, the strands below it, the part card and the proof laid on it like slips of paper. */
export default function Bench({ takeId, onGround }: { takeId: number; onGround: () => void }) {
  const query = useTake(takeId);
  const { info, trial, help, locker, set } = usePick("info", "trial", "help", "locker", "set");
  // Whoever has seen a bench is no first visitor: Home then stays Home.
  useEffect(() => localStorage.setItem("visited", "yes"), []);
  useTrying();
  usePlayback();
  useShortcuts();

  if (query.isError && !query.data)
    return (
      <Box sx={{ p: 4 }}>
        <Alert severity="error" action={<Button onClick={() => void query.refetch()}>Try again</Button>}>
          {query.error.message}
        </Alert>
        <Button onClick={() => go("/")} sx={{ mt: 2 }}>
          Home
        </Button>
      </Box>
    );
  if (!info || info.id !== takeId) return <Typography sx={{ p: 3 }}>Opening the take…</Typography>;
  const last = info.proof;
  return (
    <Box sx={{ height: "100%", display: "grid", gridTemplateRows: "46px minmax(240px, 1fr) auto 318px" }}>
      <Header info={info} onGround={onGround} />
      <Box component="main" sx={{ position: "relative", overflow: "hidden" }}>
        <View info={info} />
        <Box sx={{ position: "absolute", left: 12, top: 12, bottom: 12, pointerEvents: "none", "& > *": { pointerEvents: "auto" } }}>
          <PartCard />
        </Box>
        <Box sx={{ position: "absolute", right: 12, top: 12, bottom: 12, display: "flex", flexDirection: "column", gap: 1, pointerEvents: "none", "& > *": { pointerEvents: "auto", minHeight: 40 } }}>
          {trial && <ProofSlip proof={trial.proof} sentence={trial.sentence} title="Tried, not applied" />}
          {!trial && last && info.findings.length === 0 && <ProofSlip proof={last} sentence={last.sentence} title={info.label} />}
          {(info.findings.length > 0 || info.wanted.length > 0) && <Findings info={info} />}
          {!trial && last && info.findings.length > 0 && <ProofSlip proof={last} sentence={last.sentence} title={info.label} />}
        </Box>
      </Box>
      <Transport />
      <Strands info={info} />
      <Help open={help} onClose={() => set({ help: false })} />
      <Clips open={locker} onClose={() => set({ locker: false })} />
    </Box>
  );
}

function Header({ info, onGround }: { info: TakeInfo; onGround: () => void }) {
  const { stretch, set } = usePick("stretch", "set");
  const range = stretch ? `&first=${stretch.first}&last=${stretch.last}` : "";
  const [member, setMember] = useState(() => info.members.find((m) => m.kind === "character")?.id ?? info.members[0]!.id);
  return (
    <Box component="header" sx={{ display: "flex", alignItems: "center", gap: 1.5, px: 1.5, borderBottom: 1, borderColor: "divider", bgcolor: "background.paper" }}>
      <Button onClick={() => go("/")} aria-label="Home" title="Home" sx={{ minWidth: 0, color: "text.primary" }}>
        <Mark size={26} />
      </Button>
      <Typography component="h1" sx={{ fontSize: 16, fontWeight: 650, whiteSpace: "nowrap" }}>
        <i>{info.name}</i>
        <Box component="span" sx={{ color: "text.secondary", fontWeight: 400, ml: 1 }}>
          {info.scene}
        </Box>
      </Typography>
      <Box sx={{ flexGrow: 1 }} />
      <RevisionLine info={info} />
      <Button size="small" onClick={() => set({ locker: true })} title="Poses and ranges that were kept (L)">
        Locker
      </Button>
      <Select size="small" variant="standard" value={member} onChange={(e) => setMember(e.target.value)} inputProps={{ "aria-label": "Whom to write out" }} sx={{ fontSize: 13 }}>
        {info.members.map((m) => (
          <MenuItem key={m.id} value={m.id}>
            {m.name}
          </MenuItem>
        ))}
      </Select>
      <Button size="small" component="a" aria-label="Write BVH" href={`/api/takes/${info.id}/export.bvh?member=${encodeURIComponent(member)}&revision=${info.revision}${range}`}>
        BVH
      </Button>
      <Button size="small" component="a" href={`/api/takes/${info.id}/export.glb?member=${encodeURIComponent(member)}&revision=${info.revision}${range}`} aria-label="Write GLB">
        GLB
      </Button>
      <Button size="small" onClick={onGround}>
        Day / lamp
      </Button>
      <Button size="small" onClick={() => set({ help: true })}>
        Help ?
      </Button>
    </Box>
  );
}
