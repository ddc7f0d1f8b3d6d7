import { Box, Button, Typography } from "@mui/material";
import { usePick } from "../bench/state";
import type { Compared, TakeInfo } from "../shared/api";
import { degrees, mm } from "../shared/format";
import { farthest, framingAt } from "./drawDifference";

/** The part that a joint belongs to, as it is read. */
function partOf(info: TakeInfo | undefined, joint: string) {
  const found = info?.members.flatMap((m) => m.parts.filter((p) => p.joints.includes(joint)).map((p) => info.strands.find((s) => s.member === m.id && s.part === p.name)))[0];
  return found?.label ?? joint;
}

/** The figures of both, side by side, and the way to the worst frame. */
export function Figures({ data, one, two }: { data: Compared; one: TakeInfo | undefined; two: TakeInfo | undefined }) {
  const { toFrame, set } = usePick("toFrame", "set");
  const toWorst = () => {
    toFrame(farthest(data));
    set({ framing: framingAt(data, farthest(data)) });
  };
  const proof = data.proof;
  // Where no speed can pass on, a limb is straight or something is thrown, the core says why.
  const finite = proof.changes.filter((c) => !c.reason);
  const others = proof.changes.filter((c) => c.reason);
  const rows: [string, string, string][] = [
    ["open findings", String(data.findings_a), String(data.findings_b)],
    ["keys", String(data.keys_a), String(data.keys_b)],
    ["greatest jump at a change", mm(Math.max(0, ...proof.changes.map((c) => c.pose_before))), mm(Math.max(0, ...proof.changes.map((c) => c.pose)))],
    ["greatest speed jump, a frame", mm(Math.max(0, ...finite.map((c) => c.speed_before))), mm(Math.max(0, ...finite.map((c) => c.speed)))],
    ...(proof.contacts.length ? [["greatest slip of what moved", mm(Math.max(...proof.contacts.map((c) => c.place_before))), mm(Math.max(...proof.contacts.map((c) => c.place)))] as [string, string, string]] : []),
  ];
  return (
    <Box component="section" aria-label="Figures" data-testid="figures" sx={{ position: "absolute", right: 12, top: 12, width: 340, p: 1.5, bgcolor: "background.paper", border: 1, borderColor: "divider", borderRadius: 1, fontSize: 13 }}>
      <Box component="table" sx={{ width: "100%", "& th, & td": { textAlign: "right", py: 0.25 }, "& th:first-of-type, & td:first-of-type": { textAlign: "left" } }}>
        <thead>
          <tr>
            <td />
            <th>{one ? `${one.number}, as it is` : "first"}</th>
            <th>{two ? `${two.number}, ghost` : "second"}</th>
          </tr>
        </thead>
        <tbody>
          {rows.map(([what, x, y]) => (
            <tr key={what}>
              <td>{what}</td>
              <td>
                <b>{x}</b>
              </td>
              <td>
                <b>{y}</b>
              </td>
            </tr>
          ))}
        </tbody>
      </Box>
      <Typography sx={{ fontSize: 13, mt: 0.5 }}>
        At most <b data-testid="most">{mm(proof.departure_place.value)}</b> and {degrees(proof.departure_turn.value)} apart; keys: {proof.keys.kept} in both, {proof.keys.added} added, {proof.keys.removed} removed.
      </Typography>
      {others.length > 0 && (
        <Typography color="text.secondary" sx={{ fontSize: 12.5 }}>
          Without {others.length === 1 ? "one change" : `${others.length} changes`}: {others[0]!.reason}.
        </Typography>
      )}
      <Button size="small" onClick={toWorst}>
        Worst frame: {farthest(data)}, {partOf(two ?? one, proof.departure_place.joint)}
      </Button>
    </Box>
  );
}
