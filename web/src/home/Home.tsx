import { Box, Button, Card, CardActionArea, Chip, IconButton, Stack, Tooltip, Typography } from "@mui/material";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { get, removeScene, type PoseStrip, type SceneEntry } from "../shared/api";
import { useBringIn } from "../shared/captures";
import { useNotice } from "../shared/notice";
import { go } from "../shared/route";
import { Mark } from "../shared/Mark";
import { Readings } from "../shared/Readings";
import { Transfer } from "./Transfer";

/** The take that the first visit opens. */
const FIRST = "Cast off";

/** The way in: scenes, their cast and takes, and bringing in a file. The first visit goes straight to the demo. */
export function Home({ onGround }: { onGround: () => void }) {
  const scenes = useQuery({ queryKey: ["scenes"], queryFn: () => get<SceneEntry[]>("/scenes"), staleTime: 0 });
  const client = useQueryClient();
  const picker = useRef<HTMLInputElement>(null);
  const [into, setInto] = useState<SceneEntry>();
  const [moving, setMoving] = useState<{ scene: SceneEntry; take: SceneEntry["takes"][number] }>();
  const pick = (scene?: SceneEntry) => {
    setInto(scene);
    picker.current?.click();
  };

  useEffect(() => {
    const takes = scenes.data?.flatMap((s) => s.takes).filter((t) => t.findings.length > 0);
    const demo = takes?.find((t) => t.name === FIRST) ?? takes?.[0];
    if (demo && !localStorage.getItem("visited")) {
      go(`/take/${demo.id}`);
    }
  }, [scenes.data]);

  /** A scene's name, with a number where older ones have the same. */
  const apart = (scene: SceneEntry) => {
    const older = scenes.data?.filter((s) => s.name === scene.name && s.id < scene.id).length ?? 0;
    return older ? `${scene.name} (${older + 1})` : scene.name;
  };
  const refresh = () => client.invalidateQueries({ queryKey: ["scenes"] });
  return (
    <Box component="main" sx={{ height: "100%", overflow: "auto", px: 5, py: 3 }}>
      <Stack direction="row" spacing={2} sx={{ alignItems: "center", mb: 3 }}>
        <Mark size={34} />
        <Typography variant="h5" component="h1" sx={{ fontWeight: 700, flexGrow: 1 }}>
          Yielding Tether
        </Typography>
        <Button onClick={onGround}>Day / lamp</Button>
        <Readings />
        <Button variant="contained" disableElevation onClick={() => pick()}>
          Bring in a capture…
        </Button>
        <input
          ref={picker}
          type="file"
          accept=".bvh"
          hidden
          data-testid="picker"
          onChange={(event) => {
            const file = event.target.files?.[0];
            if (file) useBringIn.getState().put(file, into);
            event.target.value = "";
          }}
        />
      </Stack>
      {scenes.isError && (
        <Typography role="alert" color="error" sx={{ mb: 2 }}>
          {scenes.error.message} <Button onClick={() => void scenes.refetch()}>Try again</Button>
        </Typography>
      )}
      {scenes.data?.length === 0 && (
        <Typography sx={{ my: 6, textAlign: "center" }}>
          Nothing here yet. Drop a BVH capture anywhere on this page: its limbs are found, and each can be handed over to IK at once.
        </Typography>
      )}
      <Stack spacing={4}>
        {scenes.data?.map((scene) => (
          <Box key={scene.id} component="section" aria-label={apart(scene)}>
            <Stack direction="row" spacing={2} sx={{ alignItems: "baseline", mb: 1 }}>
              <Typography variant="h6" component="h2" sx={{ fontWeight: 650 }}>
                {apart(scene)}
              </Typography>
              <Typography color="text.secondary" sx={{ flexGrow: 1 }}>
                {scene.cast.join(" · ")}
              </Typography>
              {scene.characters.map((c) => (
                <Tooltip key={c.id} title="Which joints are its limbs, and the shares and set angles of its parts">
                  <Button size="small" onClick={() => go(`/scene/${scene.id}/fit/${encodeURIComponent(c.id)}`)}>
                    Fit {scene.characters.length > 1 || c.name !== scene.name ? c.name : "the body"}…
                  </Button>
                </Tooltip>
              ))}
              <Tooltip title="A capture of a character here, as a further take beside these">
                <Button size="small" onClick={() => pick(scene)}>
                  Bring in a take…
                </Button>
              </Tooltip>
              <Tooltip title="Remove this scene with its takes and revisions">
                <IconButton
                  size="small"
                  aria-label={`Remove ${apart(scene)}`}
                  onClick={() => {
                    if (!window.confirm(`Remove ${apart(scene)} with all its takes and revisions? This can't be undone.`)) return;
                    removeScene(scene.id).then(refresh, (error: Error) => useNotice.getState().warn(error.message));
                  }}
                >
                  ✕
                </IconButton>
              </Tooltip>
            </Stack>
            <Stack spacing={1.5}>
              {scene.takes.map((take) => (
                <Card key={take.id} variant="outlined" sx={{ borderColor: "divider", position: "relative" }}>
                  <CardActionArea onClick={() => go(`/take/${take.id}`)} sx={{ display: "flex", alignItems: "stretch", p: 2, gap: 3, justifyContent: "flex-start" }}>
                    <Box sx={{ width: 230, flexShrink: 0 }}>
                      <Typography sx={{ fontWeight: 650, fontSize: 17, fontStyle: "italic" }}>{take.name}</Typography>
                      <Typography color="text.secondary">
                        {take.last - take.first + 1} frames at {Number(take.rate.toFixed(3))} a second
                      </Typography>
                      <Typography color="text.secondary">
                        {take.captured ? "captured motion, " : ""}
                        {take.keys} keys, {take.contacts} {take.contacts === 1 ? "contact" : "contacts"}
                      </Typography>
                      <Typography color="text.secondary">
                        {take.revisions} {take.revisions === 1 ? "revision" : "revisions"}
                      </Typography>
                      {take.findings.length > 0 ? (
                        <Chip size="small" color="error" variant="outlined" sx={{ mt: 1 }} label={`▲ ${take.findings.length} open ${take.findings.length === 1 ? "finding" : "findings"}`} />
                      ) : (
                        <Chip size="small" variant="outlined" sx={{ mt: 1 }} label="✓ no findings" />
                      )}
                    </Box>
                    <Strip take={take.id} revisions={take.revisions} />
                  </CardActionArea>
                  <Tooltip title="To another version of its character, by name: with systems, follows and contacts">
                    <Button size="small" aria-label={`Move to… another character: ${take.name}`} onClick={() => setMoving({ scene, take })} sx={{ position: "absolute", left: 152, bottom: 17 }}>
                      Move to…
                    </Button>
                  </Tooltip>
                </Card>
              ))}
            </Stack>
          </Box>
        ))}
      </Stack>
      {moving && scenes.data && <Transfer scenes={scenes.data} {...moving} onClose={() => setMoving(undefined)} />}
      <Typography color="text.secondary" sx={{ mt: 5, py: 3, textAlign: "center", border: 2, borderStyle: "dashed", borderColor: "divider", borderRadius: 2 }}>
        Drop a BVH capture anywhere on this page: its limbs are found by their structure, and each can be handed over to IK at once.
      </Typography>
    </Box>
  );
}

/** A row of small poses of the take's characters. */
function Strip({ take, revisions }: { take: number; revisions: number }) {
  const strip = useQuery({ queryKey: ["strip", take, revisions], queryFn: () => get<PoseStrip>(`/takes/${take}/strip`) });
  if (!strip.data) return <Box sx={{ height: 110 }} />;
  const all = strip.data.bones.flat();
  const top = Math.max(0.5, ...all.map((b) => Math.max(b[1], b[3])));
  const low = Math.min(0, ...all.map((b) => Math.min(b[1], b[3])));
  const height = top - low || 1;
  return (
    <Box sx={{ display: "flex", flexGrow: 1, gap: 0.5, minWidth: 0 }} aria-hidden>
      {strip.data.bones.map((bones, i) => (
        <svg key={i} viewBox={`${-0.42 * height} ${-top - 0.05 * height} ${0.84 * height} ${1.1 * height}`} style={{ flex: 1, height: 110, minWidth: 0 }}>
          {bones.map((b, k) => (
            <line key={k} x1={b[0]} y1={-b[1]} x2={b[2]} y2={-b[3]} stroke="currentColor" strokeWidth={Math.max(b[4], height * 0.02)} strokeLinecap="round" />
          ))}
        </svg>
      ))}
    </Box>
  );
}
