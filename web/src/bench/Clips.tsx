import { Box, Button, Dialog, DialogContent, DialogTitle, IconButton, Typography } from "@mui/material";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, post, remove, type ClipInfo } from "../shared/api";
import { NameField } from "../shared/NameField";
import { useNotice } from "../shared/notice";
import { startPaste, useActions, useOperations } from "./actions";
import { useBench, usePick } from "./state";

export const useClips = (enabled = true) => useQuery({ queryKey: ["clips"], queryFn: () => get<ClipInfo[]>("/clips"), enabled, staleTime: 5000 });

/** The locker: poses and ranges that were copied and kept, for any take and body. */
export function Clips({ open, onClose }: { open: boolean; onClose: () => void }) {
  const client = useQueryClient();
  const clips = useClips(open);
  const operations = useOperations();
  const { copy } = useActions();
  const { focus, stretch, info } = usePick("focus", "stretch", "info");
  const frame = useBench((s) => (open ? s.frame : 0));
  const [naming, setNaming] = useState<number | null>(null);
  const refresh = () => client.invalidateQueries({ queryKey: ["clips"] });
  const warn = (error: Error) => useNotice.getState().warn(error.message);
  const label = info?.strands.find((s) => s.member === focus?.member && s.part === focus.part)?.label;
  const rename = (clip: ClipInfo, name: string) => {
    setNaming(null);
    if (name.trim() && name.trim() !== clip.name) post(`/clips/${clip.id}/name`, { name: name.trim() }).then(refresh, warn);
  };
  return (
    <Dialog open={open} onClose={onClose} fullWidth maxWidth="sm">
      <DialogTitle>Locker of poses and ranges</DialogTitle>
      <DialogContent>
        <Button variant="outlined" size="small" onClick={() => void copy()} disabled={!focus && !stretch}>
          {stretch ? `Keep the selected stretch, ${stretch.first} to ${stretch.last}` : `Keep the pose of ${label ?? "the part in hand"} at frame ${frame}`}
        </Button>
        {clips.data?.length === 0 && (
          <Typography sx={{ my: 3 }}>
            Nothing is kept yet. Take a part in hand, or select a stretch on the strands, and press Ctrl+C: it lands here, and goes to any frame, take, body or side.
          </Typography>
        )}
        <Box component="ul" sx={{ listStyle: "none", m: 0, mt: 1, p: 0 }}>
          {clips.data?.map((clip) => (
            <Box component="li" key={clip.id} sx={{ display: "flex", alignItems: "center", gap: 1, borderTop: 1, borderColor: "divider", py: 0.75 }}>
              <Box sx={{ flexGrow: 1, minWidth: 0 }}>
                {naming === clip.id ? (
                  <NameField label="Name of the clip" value={clip.name} onDone={(text) => rename(clip, text)} />
                ) : (
                  <Typography sx={{ fontWeight: 600, fontSize: 14 }} noWrap>
                    {clip.name}
                  </Typography>
                )}
                <Typography sx={{ fontSize: 12.5, color: "text.secondary" }} noWrap>
                  {clip.length > 0 ? `range of ${clip.length} frames` : "pose"} from {clip.source}: {clip.parts.join(", ")}
                </Typography>
              </Box>
              <Button
                size="small"
                variant="outlined"
                disabled={!focus}
                onClick={() => {
                  onClose();
                  startPaste(operations, clip);
                }}
              >
                Paste here
              </Button>
              <Button size="small" onClick={() => setNaming(clip.id)} aria-label={`Rename ${clip.name}`}>
                Rename
              </Button>
              <IconButton size="small" aria-label={`Remove ${clip.name}`} onClick={() => remove(`/clips/${clip.id}`).then(refresh, warn)}>
                ✕
              </IconButton>
            </Box>
          ))}
        </Box>
      </DialogContent>
    </Dialog>
  );
}
