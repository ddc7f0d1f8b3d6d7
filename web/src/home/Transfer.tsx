import { Alert, Box, Button, Dialog, DialogActions, DialogContent, DialogTitle, MenuItem, TextField, Typography } from "@mui/material";
import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, post, type SceneEntry, type TakeInfo, type TransferInfo } from "../shared/api";
import { useNotice } from "../shared/notice";
import { go } from "../shared/route";

interface Props {
  scenes: SceneEntry[];
  scene: SceneEntry;
  take: SceneEntry["takes"][number];
  onClose: () => void;
}

/** A take moved to another version of its character: whom to, which prefixes do not count, and what does not match, told
 * before anything is done. */
export function Transfer({ scenes, scene, take, onClose }: Props) {
  const client = useQueryClient();
  const others = scenes.flatMap((s) => s.characters.filter((c) => s.id !== scene.id || !scene.characters.some((o) => o.id === c.id) || scene.characters.length > 1).map((c) => ({ key: `${s.id}/${c.id}`, scene: s, character: c })));
  const [member, setMember] = useState(scene.characters[0]?.id ?? "");
  const [to, setTo] = useState(others.find((o) => o.scene.id !== scene.id)?.key ?? others[0]?.key ?? "");
  const [prefixes, setPrefixes] = useState<{ source?: string; target?: string }>({});
  const [name, setName] = useState(take.name);
  const [busy, setBusy] = useState(false);
  const target = others.find((o) => o.key === to);
  const opened = useQuery({ queryKey: ["take", take.id], queryFn: () => get<TakeInfo>(`/takes/${take.id}`) });
  const asked = target && opened.data && { revision: opened.data.revision, member, scene: target.scene.id, target: target.character.id, source_prefix: prefixes.source ?? null, target_prefix: prefixes.target ?? null, name };
  const found = useQuery({
    queryKey: ["transfer", take.id, asked],
    queryFn: () => post<TransferInfo>(`/takes/${take.id}/transfer`, asked!),
    enabled: !!asked && member !== "",
    placeholderData: keepPreviousData,
    retry: false,
  });

  const move = async () => {
    setBusy(true);
    try {
      const made = await post<TransferInfo>(`/takes/${take.id}/transfer`, { ...asked, apply: true });
      await client.invalidateQueries({ queryKey: ["scenes"] });
      useNotice.getState().say(`${name} is a take of ${target!.scene.name} now. ${made.sentence}`);
      go(`/take/${made.take_id}`);
    } catch (error) {
      useNotice.getState().warn((error as Error).message);
    }
    setBusy(false);
  };

  const data = found.data;
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth aria-labelledby="transfer-title">
      <DialogTitle id="transfer-title">Move {take.name} to another character</DialogTitle>
      <DialogContent>
        {others.length === 0 ? (
          <Typography>There is no other character yet. Bring in a capture of another version of this one first.</Typography>
        ) : (
          <>
            <Box sx={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 2, pt: 1 }}>
              <TextField select size="small" label="From" value={member} onChange={(e) => setMember(e.target.value)}>
                {scene.characters.map((c) => (
                  <MenuItem key={c.id} value={c.id}>
                    {scene.name} · {c.name}
                  </MenuItem>
                ))}
              </TextField>
              <TextField
                select
                size="small"
                label="To"
                value={to}
                onChange={(e) => {
                  setTo(e.target.value);
                  setPrefixes({});
                }}
              >
                {others.map((o) => (
                  <MenuItem key={o.key} value={o.key}>
                    {o.scene.name} · {o.character.name}
                  </MenuItem>
                ))}
              </TextField>
              <TextField size="small" label="Prefix of names here, not counted" value={prefixes.source ?? data?.source_prefix ?? ""} onChange={(e) => setPrefixes({ ...prefixes, source: e.target.value })} />
              <TextField size="small" label="Prefix of names there, not counted" value={prefixes.target ?? data?.target_prefix ?? ""} onChange={(e) => setPrefixes({ ...prefixes, target: e.target.value })} />
              <TextField size="small" label="Name of the new take" value={name} onChange={(e) => setName(e.target.value)} sx={{ gridColumn: "span 2" }} />
            </Box>
            {found.isError && (
              <Alert severity="error" sx={{ mt: 2 }}>
                {found.error.message}
              </Alert>
            )}
            {data && !found.isError && (
              <Box sx={{ mt: 2 }} aria-live="polite">
                <Typography data-testid="transfer-sentence" sx={{ fontWeight: 600 }}>
                  {data.mismatches.length === 0 ? "✓ " : "▲ "}
                  {data.sentence}
                </Typography>
                {data.mismatches.length > 0 && (
                  <Box component="table" aria-label="What does not match" sx={{ mt: 1, width: "100%", fontSize: 13, borderCollapse: "collapse", display: "block", maxHeight: 260, overflow: "auto", "& td": { py: 0.4, pr: 2, verticalAlign: "top", borderTop: 1, borderColor: "divider" } }}>
                    <tbody>
                      {data.mismatches.map((m, k) => (
                        <tr key={k}>
                          <td>{m.what}</td>
                          <td style={{ fontWeight: 600 }}>{m.name}</td>
                          <td>{m.says}</td>
                        </tr>
                      ))}
                    </tbody>
                  </Box>
                )}
              </Box>
            )}
          </>
        )}
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Cancel</Button>
        <Button variant="contained" disableElevation disabled={!data || found.isError || busy || data.parts === 0} onClick={() => void move()}>
          Move
        </Button>
      </DialogActions>
    </Dialog>
  );
}
