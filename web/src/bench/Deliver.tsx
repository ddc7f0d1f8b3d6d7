import { Alert, Box, Button, Dialog, DialogActions, DialogContent, DialogTitle, FormControlLabel, MenuItem, Radio, RadioGroup, TextField, Typography } from "@mui/material";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { get, type FormatInfo, type Job, type TakeInfo } from "../shared/api";
import { JobBar } from "../shared/JobBar";
import { runJob, save } from "../shared/jobs";
import { usePick } from "./state";

/** Writing a take out: whom, which frames, which format and what it can hold, with progress and a way to stop. */
export function Deliver({ info, open, onClose }: { info: TakeInfo; open: boolean; onClose: () => void }) {
  return (
    <Dialog open={open} onClose={onClose} fullWidth maxWidth="sm" aria-labelledby="deliver-title">
      <DialogTitle id="deliver-title">Deliver {info.name}</DialogTitle>
      {open && <Form info={info} onClose={onClose} />}
    </Dialog>
  );
}

function Form({ info, onClose }: { info: TakeInfo; onClose: () => void }) {
  const { stretch, focus } = usePick("stretch", "focus");
  const able = info.members.filter((m) => m.joints.length > 0);
  const [member, setMember] = useState((able.find((m) => m.id === focus?.member && m.kind === "character") ?? able.find((m) => m.kind === "character") ?? able[0])!.id);
  const [first, setFirst] = useState(String(stretch?.first ?? info.first));
  const [last, setLast] = useState(String(stretch?.last ?? info.last));
  const [ending, setEnding] = useState("glb");
  const [writing, setWriting] = useState(false);
  const [job, setJob] = useState<Job | null>(null);
  const [error, setError] = useState("");
  const stop = useRef<AbortController | null>(null);
  useEffect(() => () => stop.current?.abort(), []);
  const formats = useQuery({ queryKey: ["formats"], queryFn: () => get<FormatInfo[]>("/formats"), staleTime: Infinity }).data ?? [];
  const format = formats.find((f) => f.ending === ending);
  const frames = [Number(first), Number(last)] as const;
  const fine = frames.every((f) => Number.isInteger(f)) && first !== "" && last !== "" && frames[0] >= info.first && frames[1] <= info.last && frames[0] <= frames[1];
  const write = async () => {
    const here = new AbortController();
    stop.current = here;
    setWriting(true);
    setJob(null);
    setError("");
    try {
      save(await runJob(`/takes/${info.id}/export.${ending}?member=${encodeURIComponent(member)}&revision=${info.revision}&first=${frames[0]}&last=${frames[1]}`, {}, here.signal, setJob));
      onClose();
    } catch (problem) {
      if (!here.signal.aborted) setError((problem as Error).message);
    } finally {
      setWriting(false);
    }
  };
  const field = (label: string, value: string, change: (v: string) => void) => (
    <TextField size="small" label={label} value={value} error={!fine} onChange={(e) => change(e.target.value)} sx={{ width: 110 }} slotProps={{ htmlInput: { inputMode: "numeric" } }} />
  );
  return (
    <>
      <DialogContent sx={{ display: "flex", flexDirection: "column", gap: 2, pt: "8px !important" }}>
        <Box sx={{ display: "flex", gap: 1.5, alignItems: "center" }}>
          <TextField select size="small" label="Whom" value={member} onChange={(e) => setMember(e.target.value)} sx={{ minWidth: 150 }}>
            {able.map((m) => (
              <MenuItem key={m.id} value={m.id}>
                {m.name}
              </MenuItem>
            ))}
          </TextField>
          {field("From frame", first, setFirst)}
          {field("to frame", last, setLast)}
          <Typography sx={{ fontSize: 13, color: fine ? "text.secondary" : "error.main" }}>{fine ? `${frames[1] - frames[0] + 1} frames, ${((frames[1] - frames[0]) / info.rate).toFixed(2)} s` : `whole frames from ${info.first} to ${info.last}`}</Typography>
        </Box>
        <RadioGroup value={ending} onChange={(e) => setEnding(e.target.value)} aria-label="Format">
          {formats.map((f) => (
            <FormControlLabel key={f.ending} value={f.ending} control={<Radio size="small" />} label={f.label} />
          ))}
        </RadioGroup>
        {format && (
          <Typography component="div" data-testid="holds" sx={{ fontSize: 13.5 }}>
            <p style={{ margin: "0 0 6px" }}>{format.holds}</p>
            <p style={{ margin: 0 }}>{format.leaves}</p>
          </Typography>
        )}
        {error && <Alert severity="error" icon={<span aria-hidden>▲</span>}>{error}</Alert>}
        {writing && <JobBar job={job} label="Writing" />}
      </DialogContent>
      <DialogActions>
        <Button onClick={() => (writing ? stop.current?.abort() : onClose())}>{writing ? "Stop" : "Close"}</Button>
        <Button variant="contained" disableElevation disabled={!fine || !format || writing} onClick={() => void write()}>
          Write the file
        </Button>
      </DialogActions>
    </>
  );
}
