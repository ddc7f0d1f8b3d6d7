import { Alert, Box, Button, Typography } from "@mui/material";
import { useEffect } from "react";
import { Mark } from "../shared/Mark";
import { go } from "../shared/route";
import { Splitter } from "../shared/Splitter";
import { useKept } from "../shared/kept";
import type { TakeInfo } from "../shared/api";
import { useEager, useTake, useTrying } from "./actions";
import { useAddress } from "./address";
import { Clips } from "./Clips";
import { useShortcuts } from "./commands/useShortcuts";
import { Deliver } from "./Deliver";
import { Findings } from "./Findings";
import { Help } from "./Help";
import { Layers } from "./Layers";
import { Holds } from "./Holds";
import { Offer } from "./Offer";
import { PartCard } from "./card/PartCard";
import { Chart } from "./Chart";
import { ProofSlip } from "./ProofSlip";
import { RevisionLine } from "./RevisionLine";
import { View } from "./stage/View";
import { usePick } from "./state";
import { Timeline } from "./timeline/Timeline";
import { usePlayback } from "./playback";
import { Transport } from "./Transport";

/** Least heights of the view and of the timeline, pixels. */
const VIEW = 200;
const TIMELINE = 120;

/** Height of the timeline until somebody drags it: as many more rows as the window has room for. */
const roomy = (height: number) => Math.round(Math.min(Math.max(318, 0.4 * height), 520));

/** The bench: the view with the part card and the proof laid on it like slips of paper, what is tried, the timeline. */
export default function Bench({ takeId, onGround }: { takeId: number; onGround: () => void }) {
  const query = useTake(takeId);
  const { info, help, locker, deliver, set } = usePick("info", "help", "locker", "deliver", "set");
  const [height, setHeight] = useKept("height of the timeline", roomy(window.innerHeight));
  // Whoever has seen a bench is no first visitor: Home then stays Home.
  useEffect(() => localStorage.setItem("visited", "yes"), []);
  useTrying();
  useEager();
  usePlayback();
  useShortcuts();
  useAddress(takeId);

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
  return (
    <Box sx={{ height: "100%", display: "grid", gridTemplateColumns: "minmax(0, 1fr)", gridTemplateRows: `46px minmax(${VIEW}px, 1fr) auto minmax(${TIMELINE}px, ${height}px)` }}>
      <Header info={info} onGround={onGround} />
      <Box component="main" sx={{ position: "relative", overflow: "hidden" }}>
        <View info={info} />
        <Slips info={info} />
      </Box>
      <Box component="section" aria-label="Time, and what is tried" sx={{ minWidth: 0 }}>
        <Transport info={info} />
        <Offer />
        <Splitter label="Height of the timeline" value={height} least={TIMELINE} most={() => Math.max(TIMELINE, window.innerHeight - 46 - 42 - VIEW)} onChange={setHeight} />
      </Box>
      <Timeline info={info} />
      <Help open={help} onClose={() => set({ help: false })} />
      <Clips open={locker} onClose={() => set({ locker: false })} />
      <Deliver info={info} open={deliver} onClose={() => set({ deliver: false })} />
    </Box>
  );
}

/** What is laid on the view, beside whom it is about: the part card on its left, proofs, findings, layers and holds on its right. */
function Slips({ info }: { info: TakeInfo }) {
  const { trial, holds, layers } = usePick("trial", "holds", "layers");
  const last = info.proof;
  const column = { position: "absolute", top: 12, bottom: 12, pointerEvents: "none", "& > *": { pointerEvents: "auto" } } as const;
  return (
    <>
      <Box sx={{ ...column, left: 12 }}>
        <PartCard />
      </Box>
      {/* What was just tried or done is read whole, before what else there is to do. */}
      <Box sx={{ ...column, right: 12, display: "flex", flexDirection: "column", gap: 1, "& > *": { pointerEvents: "auto", minHeight: 44 }, "& > [data-testid=findings]": { flexShrink: 1000 } }}>
        {trial && <ProofSlip proof={trial.proof} sentence={trial.sentence} title="Tried, not applied" steps={trial.steps}><Chart trial={trial.trial} /></ProofSlip>}
        {!trial && last && info.findings.length === 0 && <ProofSlip proof={last} sentence={last.sentence} title={info.label} />}
        {(info.findings.length > 0 || info.wanted.length > 0) && <Findings info={info} />}
        {!trial && last && info.findings.length > 0 && <ProofSlip proof={last} sentence={last.sentence} title={info.label} />}
        {layers && <Layers info={info} />}
        {holds && <Holds info={info} />}
      </Box>
    </>
  );
}

function Header({ info, onGround }: { info: TakeInfo; onGround: () => void }) {
  const { layers, set } = usePick("layers", "set");
  return (
    <Box component="header" sx={{ display: "flex", alignItems: "center", gap: 1.5, px: 1.5, borderBottom: 1, borderColor: "divider", bgcolor: "background.paper", minWidth: 0 }}>
      <Button onClick={() => go("/")} aria-label="Home" title="Home" sx={{ minWidth: 0, color: "text.primary" }}>
        <Mark size={26} />
      </Button>
      <Typography component="h1" noWrap sx={{ fontSize: 16, fontWeight: 650, minWidth: 0 }}>
        <i>{info.name}</i>
        <Box component="span" sx={{ color: "text.secondary", fontWeight: 400, ml: 1 }}>
          {info.scene}
        </Box>
      </Typography>
      <Box sx={{ flexGrow: 1 }} />
      <RevisionLine info={info} />
      <Button size="small" aria-pressed={layers} onClick={() => set({ layers: !layers })} title="Motion on top of motion (Shift+L)" sx={{ whiteSpace: "nowrap" }}>
        Layers{info.layers.length > 0 ? ` ${info.layers.length}` : ""}
      </Button>
      <Button size="small" onClick={() => set({ locker: true })} title="Poses and ranges that were kept (L)">
        Locker
      </Button>
      <Button size="small" onClick={() => set({ deliver: true })} title="Write the take out as a file">
        Deliver…
      </Button>
      <Button size="small" onClick={onGround} sx={{ whiteSpace: "nowrap" }}>
        Day / lamp
      </Button>
      <Button size="small" onClick={() => set({ help: true })} sx={{ whiteSpace: "nowrap" }}>
        Help ?
      </Button>
    </Box>
  );
}
