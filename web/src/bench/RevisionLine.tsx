import { Box, Button, Dialog, DialogContent, DialogTitle, Tooltip, Typography } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get, type Revision, type TakeInfo } from "../shared/api";
import { mm, whenMade } from "../shared/format";
import { NameField } from "../shared/NameField";
import { go } from "../shared/route";
import { useActions } from "./actions";
import { usePick } from "./state";

/** Undo, redo, and the list of all revisions: their names, a line of proof, going there, seeing them beside this one. */
export function RevisionLine({ info }: { info: TakeInfo }) {
  const { step } = useActions();
  const { revisionList, set } = usePick("revisionList", "set");
  return (
    <Box sx={{ display: "flex", alignItems: "center", gap: 0.5, minWidth: 0 }}>
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
      <Button size="small" variant="outlined" onClick={() => set({ revisionList: true })} data-testid="revision" title="All revisions (V)" sx={{ maxWidth: 300, overflow: "hidden", whiteSpace: "nowrap", textOverflow: "ellipsis", display: "block" }}>
        {info.number} · {info.revision_name ?? info.label}
      </Button>
      <Revisions info={info} open={revisionList} onClose={() => set({ revisionList: false })} />
    </Box>
  );
}

function Revisions({ info, open, onClose }: { info: TakeInfo; open: boolean; onClose: () => void }) {
  const { goTo, name } = useActions();
  const { beside, set } = usePick("beside", "set");
  const [naming, setNaming] = useState<number | null>(null);
  const revisions = useQuery({ queryKey: ["revisions", info.id], queryFn: () => get<Revision[]>(`/takes/${info.id}/revisions`), enabled: open, staleTime: 0 });
  const rename = (r: Revision, text: string) => {
    setNaming(null);
    if (text.trim() !== (r.name ?? "")) void name(r.id, text.trim());
  };
  return (
    <Dialog open={open} onClose={onClose} fullWidth maxWidth="md">
      <DialogTitle>Revisions of {info.name}</DialogTitle>
      <DialogContent>
        <Box component="ol" reversed sx={{ listStyle: "none", m: 0, p: 0 }}>
          {revisions.data
            ?.slice()
            .reverse()
            .map((r) => {
              const proof = r.proof;
              const here = r.id === info.revision;
              return (
                <Box component="li" key={r.id} aria-current={here} sx={{ display: "flex", gap: 1, alignItems: "center", borderTop: 1, borderColor: "divider", py: 0.5, px: 1, bgcolor: here ? "action.selected" : undefined }}>
                  <Box sx={{ flexGrow: 1, minWidth: 0 }}>
                    {naming === r.id ? (
                      <NameField label={`Name of revision ${r.number}`} value={r.name ?? ""} placeholder={r.label} onDone={(text) => rename(r, text)} />
                    ) : (
                      <Typography noWrap sx={{ fontSize: 14, fontWeight: here ? 700 : 500 }}>
                        {r.number} · {r.name ? <b>{r.name}: </b> : ""}
                        {r.label}
                        {r.on_path ? "" : " (set aside)"}
                      </Typography>
                    )}
                    <Typography noWrap sx={{ fontSize: 12.5, color: "text.secondary" }}>
                      {whenMade(new Date(r.created), new Date())}
                      {proof ? ` · ${!proof.clean ? "see its proof" : proof.contacts_kept ? "clean" : "a contact slips"}, at most ${mm(proof.departure_place.value)} off` : ""}
                    </Typography>
                  </Box>
                  <Button size="small" onClick={() => setNaming(r.id)} aria-label={`Name revision ${r.number}`}>
                    Name
                  </Button>
                  {!here && (
                    <>
                      <Button size="small" variant={beside === r.id ? "contained" : "text"} disableElevation onClick={() => set({ beside: beside === r.id ? null : r.id })} aria-pressed={beside === r.id}>
                        Ghost
                      </Button>
                      <Button
                        size="small"
                        onClick={() => {
                          onClose();
                          go(`/take/${info.id}/compare/${r.id}/${info.revision}`);
                        }}
                      >
                        Compare
                      </Button>
                      <Button
                        size="small"
                        aria-label={`Go to it: revision ${r.number}`}
                        onClick={() => {
                          onClose();
                          goTo(r.id);
                        }}
                        sx={{ whiteSpace: "nowrap" }}
                      >
                        Go to it
                      </Button>
                    </>
                  )}
                </Box>
              );
            })}
        </Box>
      </DialogContent>
    </Dialog>
  );
}
