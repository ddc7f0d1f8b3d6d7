import { Box, Button, Dialog, DialogContent, DialogTitle, List, ListItemButton, ListItemText, Tooltip } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get, type Proof, type Revision, type TakeInfo } from "../shared/api";
import { mm } from "../shared/format";
import { useActions } from "./actions";

/** Undo, redo, and the list of all revisions with a line of proof each. */
export function RevisionLine({ info }: { info: TakeInfo }) {
  const { step, goTo } = useActions();
  const [open, setOpen] = useState(false);
  const revisions = useQuery({ queryKey: ["revisions", info.id], queryFn: () => get<Revision[]>(`/takes/${info.id}/revisions`), enabled: open, staleTime: 0 });
  return (
    <Box sx={{ display: "flex", alignItems: "center", gap: 0.5 }}>
      <Tooltip title="Undo (Ctrl+Z)">
        <span>
          <Button size="small" disabled={!info.can_undo} onClick={() => step("undo")}>
            Undo
          </Button>
        </span>
      </Tooltip>
      <Tooltip title="Redo (Ctrl+Shift+Z)">
        <span>
          <Button size="small" disabled={!info.can_redo} onClick={() => step("redo")}>
            Redo
          </Button>
        </span>
      </Tooltip>
      <Button size="small" variant="outlined" onClick={() => setOpen(true)} data-testid="revision" sx={{ maxWidth: 360, overflow: "hidden", whiteSpace: "nowrap", textOverflow: "ellipsis", display: "block" }}>
        {info.number} · {info.label}
      </Button>
      <Dialog open={open} onClose={() => setOpen(false)} fullWidth maxWidth="sm">
        <DialogTitle>Revisions of {info.name}</DialogTitle>
        <DialogContent>
          <List dense>
            {revisions.data
              ?.slice()
              .reverse()
              .map((r) => {
                const proof = r.proof as unknown as Proof | null;
                return (
                  <ListItemButton
                    key={r.id}
                    selected={r.id === info.revision}
                    onClick={() => {
                      setOpen(false);
                      if (r.id !== info.revision) goTo(r.id);
                    }}
                  >
                    <ListItemText
                      primary={`${r.number} · ${r.label}${r.on_path ? "" : " (set aside)"}`}
                      secondary={`${new Date(r.created).toLocaleString()}${proof ? ` · ${proof.clean ? "clean" : "see its proof"}, at most ${mm(proof.departure_place.value)} off` : ""}`}
                    />
                  </ListItemButton>
                );
              })}
          </List>
        </DialogContent>
      </Dialog>
    </Box>
  );
}
