import { Box, Collapse, Link, Paper, Typography, useTheme } from "@mui/material";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get, type Card } from "../shared/api";
import { channelValue, degrees, mm } from "../shared/format";
import { sideMark } from "../shared/theme";
import { useBench, usePick } from "./state";

/** The part in hand at this frame: what drives it, what it follows, the values of both its systems. */
export function PartCard() {
  const theme = useTheme();
  const { info, focus, playing } = usePick("info", "focus", "playing");
  // While it plays the card stands still: nobody reads it, and each frame would draw it anew.
  const frame = useBench((s) => (s.playing ? -1 : s.frame));
  const [other, setOther] = useState(false);
  const card = useQuery({
    queryKey: ["card", info?.id, info?.revision, focus?.member, focus?.part, frame],
    queryFn: ({ signal }) =>
      get<Card>(`/takes/${info!.id}/card?member=${encodeURIComponent(focus!.member)}&part=${encodeURIComponent(focus!.part)}&frame=${frame}&revision=${info!.revision}`, signal),
    enabled: !!info && !!focus && !playing,
    placeholderData: keepPreviousData,
    gcTime: 20_000,
  });
  const data = card.data;
  if (!focus)
    return (
      <Paper variant="outlined" sx={{ p: 2, width: 268 }}>
        <Typography>Click a body, or a strand, to take a part in hand.</Typography>
      </Paper>
    );
  if (!data) return null;
  const hue = data.side === "left" ? theme.ink.left : data.side === "right" ? theme.ink.right : theme.ink.middle;
  const systems = [...data.systems].sort((a, b) => Number(b.driving) - Number(a.driving));
  return (
    <Paper variant="outlined" component="section" aria-label="Part card" sx={{ p: 1.5, width: 268, maxHeight: "100%", overflow: "auto" }}>
      <Typography component="h2" sx={{ fontWeight: 700, fontSize: 16, color: hue }}>
        <span aria-hidden>{sideMark[data.side]} </span>
        {data.label}
      </Typography>
      <Typography data-testid="driver" sx={{ fontSize: 13 }}>
        {data.kind === "limb" ? (
          <>
            <b>{data.driver === "Capture" ? "Captured motion" : data.driver === "both" ? `Half and half (${(data.drive ?? 0).toFixed(2)} of IK)` : data.driver}</b> drives here
          </>
        ) : (
          `${data.driver === "Capture" ? "Captured motion" : "FK"} drives here`
        )}
        {data.follows.map((f) => (
          <span key={f.anchor}>{data.kind === "limb" && data.driver !== "IK" ? `; in IK it would follow ${f.anchor}` : `, follows ${f.anchor}`}</span>
        ))}
      </Typography>
      {data.kind === "limb" && data.idle_place !== null && data.driver !== "Capture" && (
        <Typography sx={{ fontSize: 12.5, color: "text.secondary" }}>
          Idle keys stand {mm(data.idle_place)} and {degrees(data.idle_turn ?? 0, 1)} off the pose.
        </Typography>
      )}
      {systems.map((system) => (
        <Box key={system.system} sx={{ mt: 1 }}>
          {system.driving || systems.length === 1 || data.driver === "both" ? (
            <Values card={system} title={systems.length > 1 ? `${system.system.toUpperCase()}${system.driving ? ", driving" : ""}` : ""} />
          ) : (
            <>
              <Link component="button" underline="hover" onClick={() => setOther(!other)} aria-expanded={other} sx={{ fontSize: 12.5 }}>
                {other ? "▾" : "▸"} {system.system.toUpperCase()}, idle
              </Link>
              <Collapse in={other}>
                <Values card={system} title="" fits />
              </Collapse>
            </>
          )}
        </Box>
      ))}
      <Typography sx={{ mt: 1, fontSize: 12, color: "text.secondary", borderTop: 1, borderColor: "divider", pt: 0.75 }}>{data.rule}</Typography>
    </Paper>
  );
}

function Values({ card, title, fits }: { card: Card["systems"][number]; title: string; fits?: boolean }) {
  return (
    <Box component="table" sx={{ width: "100%", borderCollapse: "collapse", fontSize: 12.5, lineHeight: 1.3, "& td": { py: 0 } }}>
      {(title || fits) && (
        <caption style={{ textAlign: "left", fontWeight: 650, captionSide: "top", padding: "2px 0" }}>
          {title}
          {fits && "stored, and as the pose wants it"}
        </caption>
      )}
      <tbody>
        {card.channels.map((c) => (
          <tr key={c.name}>
            <td style={{ width: 14 }} title={c.keyed ? "keyed at this frame" : undefined}>
              {c.keyed ? "◆" : ""}
              {c.keyed && <span style={{ position: "absolute", left: -9999 }}>keyed</span>}
            </td>
            <td>{c.label.replace(/^\S*\.ik /, "")}</td>
            <td style={{ textAlign: "right", fontWeight: 600 }}>{channelValue(c.value, c.unit)}</td>
            {fits && <td style={{ textAlign: "right", opacity: 0.7, paddingLeft: 6 }}>{channelValue(c.fits, c.unit)}</td>}
          </tr>
        ))}
      </tbody>
    </Box>
  );
}
