import { Box, Button, Collapse, Link, Paper, Typography } from "@mui/material";
import { Fragment, useState } from "react";
import type { Proof, Step } from "../shared/api";
import { degrees, mm } from "../shared/format";
import { useBench } from "./state";

/** What of a sole above or below its ground is worth a word, metres. */
const SUNK = 1e-5;

interface Props {
  proof: Proof;
  sentence: string;
  title: string;
  /** Where it is made in steps, each of which becomes a revision of its own. */
  steps?: Step[];
  /** Figures to decide by. */
  children?: React.ReactNode;
}

/** The proof: one sentence with figures, opening in full; one click to the worst frame. */
export function ProofSlip({ proof, sentence, title, steps = [], children }: Props) {
  const [open, setOpen] = useState(false);
  const toFrame = useBench((s) => s.toFrame);
  // One verdict, for mark and border alike: nothing jumps, the tolerance is kept, and contacts keep their places.
  const kept = proof.clean && proof.within && proof.contacts_kept;
  return (
    <Paper variant="outlined" component="section" aria-label="Proof" data-testid="proof" sx={{ p: 1.5, width: 300, maxHeight: "100%", overflow: "auto", borderColor: kept ? "primary.main" : "error.main", borderWidth: 2 }}>
      <Typography component="h2" sx={{ fontWeight: 700, fontSize: 14 }}>
        {kept ? "✓ " : "▲ "}
        {title}
      </Typography>
      {children}
      {steps.length > 0 && (
        <Box component="ol" aria-label="Steps" sx={{ fontSize: 12.5, my: 0.5, pl: 2.5, "& li": { mb: 0.5 } }}>
          {steps.map((s) => (
            <li key={s.label}>
              <details open={!s.kept}>
                <summary style={{ cursor: "pointer", fontWeight: 700 }}>
                  {s.kept ? "✓ " : "▲ "}
                  {s.label}
                </summary>
                {s.sentence}
              </details>
            </li>
          ))}
        </Box>
      )}
      <Typography data-testid="sentence" sx={{ fontSize: 13, my: 0.5 }}>
        {steps.length > 0 && "All in all: "}
        {sentence}
      </Typography>
      <Button size="small" onClick={() => toFrame(proof.worst_frame)}>
        Worst frame: {Number(proof.worst_frame.toFixed(2))}
      </Button>
      <Link component="button" underline="hover" onClick={() => setOpen(!open)} aria-expanded={open} sx={{ fontSize: 12.5, ml: 1 }}>
        {open ? "▾ less" : "▸ in full"}
      </Link>
      <Collapse in={open}>
        <Box component="table" sx={{ width: "100%", fontSize: 12, mt: 0.5, "& td:last-of-type": { textAlign: "right", fontWeight: 600 }, "& th": { textAlign: "left", pt: 0.75 } }}>
          <tbody>
            {proof.changes.map((c) => (
              <Rows key={`${c.part}${c.frame}`} title={`${c.label}, frame ${c.frame}`}>
                <Row label="jump (before)" value={`${mm(c.pose)} (${mm(c.pose_before)})`} />
                <Row label="turn (before)" value={`${degrees(c.turn)} (${degrees(c.turn_before)})`} />
                <Row label="speed jump, a frame" value={`${mm(c.speed)} ≤ ${mm(c.allowed_speed)}`} />
                <Row label="spin jump, a frame" value={`${degrees(c.spin, 3)} ≤ ${degrees(c.allowed_spin, 3)}`} />
                {c.reason && <Row label={c.reason} value="" />}
              </Rows>
            ))}
            <Rows title={`Frames ${proof.first} to ${proof.last}`}>
              <Row label={`off in place, ${proof.departure_place.joint} at ${proof.departure_place.frame}`} value={mm(proof.departure_place.value)} />
              {proof.tolerance && <Row label={proof.within ? "within the tolerance of" : "beyond the tolerance of"} value={`${mm(proof.tolerance[0])}, ${degrees(proof.tolerance[1], 1)}`} />}
              <Row label={`off in turn, ${proof.departure_turn.joint} at ${proof.departure_turn.frame}`} value={degrees(proof.departure_turn.value)} />
              <Row label="outside, place" value={mm(proof.outside_place.value)} />
              <Row label="outside, turn" value={degrees(proof.outside_turn.value)} />
              {proof.contacts.map((c) => (
                <Fragment key={`${c.label}${c.first}`}>
                  <Row label={`${c.label}, ${c.first} to ${c.last}: slips (before)`} value={`${mm(c.place)} (${mm(c.place_before)})`} />
                  {c.more >= SUNK && <Row label={`slips more than before, at frame ${c.more_at}`} value={mm(c.more)} />}
                  {Math.max(c.depth, c.depth_before) >= SUNK && <Row label="sinks in (before)" value={`${mm(c.depth)} (${mm(c.depth_before)})`} />}
                  {Math.max(c.hover, c.hover_before) >= SUNK && <Row label="hovers (before)" value={`${mm(c.hover)} (${mm(c.hover_before)})`} />}
                </Fragment>
              ))}
              <Row label="keys kept" value={String(proof.keys.kept)} />
              <Row label="keys added" value={String(proof.keys.added)} />
              <Row label="keys removed" value={String(proof.keys.removed)} />
            </Rows>
          </tbody>
        </Box>
        {proof.notes.map((note) => (
          <Typography key={note} sx={{ fontSize: 12, mt: 0.5 }}>
            {note}
          </Typography>
        ))}
      </Collapse>
    </Paper>
  );
}

function Rows({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <>
      <tr>
        <th colSpan={2}>{title}</th>
      </tr>
      {children}
    </>
  );
}

function Row({ label, value }: { label: string; value: string }) {
  return (
    <tr>
      <td>{label}</td>
      <td>{value}</td>
    </tr>
  );
}
