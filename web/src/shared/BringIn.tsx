import { Alert, Button, Dialog, DialogActions, DialogContent, DialogTitle, Stack, Typography } from "@mui/material";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { Job, SceneEntry } from "./api";
import { asked, useBringIn } from "./captures";
import { JobBar } from "./JobBar";
import { runJob } from "./jobs";
import { useNotice } from "./notice";
import { Readings } from "./Readings";
import { go } from "./route";

/** Bringing a capture in, as a scene of its own or as a further take of one: how far it is, a way to stop, and, where it was
 * refused, why, and another try with other choices. Then it opens. */
export function BringIn() {
  const { file, into, count, put } = useBringIn();
  return (
    <Dialog open={file !== null} fullWidth maxWidth="sm" onClose={(_, why) => why === "escapeKeyDown" && put(null)} aria-labelledby="bring-in-title">
      <DialogTitle id="bring-in-title">{into ? `A further take of ${into.name}` : "Bring in a capture"}</DialogTitle>
      {file && <Form key={count} file={file} into={into} />}
    </Dialog>
  );
}

function Form({ file, into }: { file: File; into: SceneEntry | undefined }) {
  const put = useBringIn((s) => s.put);
  const [error, setError] = useState("");
  return (
    <>
      <DialogContent sx={{ display: "flex", flexDirection: "column", gap: 2 }}>
        <Typography sx={{ overflowWrap: "anywhere" }}>
          {file.name}, {Math.max(1, Math.round(file.size / 1000)).toLocaleString("en")} kB
        </Typography>
        {error ? (
          <>
            <Alert severity="error" icon={<span aria-hidden>▲</span>}>{error}</Alert>
            <Stack direction="row" spacing={2}>
              <Readings />
            </Stack>
          </>
        ) : (
          <Attempt file={file} into={into} onRefused={setError} />
        )}
      </DialogContent>
      <DialogActions>
        <Button onClick={() => put(null)}>{error ? "Close" : "Cancel"}</Button>
        {error && (
          <Button variant="contained" disableElevation onClick={() => setError("")}>
            Try again
          </Button>
        )}
      </DialogActions>
    </>
  );
}

/** Brings the file in while it is shown. */
function Attempt({ file, into, onRefused }: { file: File; into: SceneEntry | undefined; onRefused: (why: string) => void }) {
  const client = useQueryClient();
  const [job, setJob] = useState<Job | null>(null);
  useEffect(() => {
    const here = new AbortController();
    runJob(`/import?${asked(file, into)}`, { method: "POST", headers: { "Content-Type": "application/octet-stream" }, body: file }, here.signal, setJob)
      .then(async ({ imported }) => {
        await client.invalidateQueries({ queryKey: ["scenes"] });
        if (!imported || here.signal.aborted) return;
        const parts = imported.parts.length ? `found ${imported.parts.join(", ")}` : "no limbs found";
        useNotice.getState().say(`${file.name}: ${into ? `a further take of ${into.name}` : parts}.`, imported.notes);
        useBringIn.getState().put(null);
        go(`/take/${imported.take_id}`);
      })
      .catch((problem: Error) => {
        if (!here.signal.aborted) onRefused(`${file.name} was not brought in. ${problem.message}`);
      });
    // Another file, or leaving: what is on its way is not wanted any more.
    return () => here.abort();
  }, [file, into, client, onRefused]);
  return <JobBar job={job} label="Bringing in" />;
}
