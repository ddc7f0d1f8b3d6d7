import { Button, Dialog, DialogActions, DialogContent, DialogTitle, TextField, Typography } from "@mui/material";
import { useEffect, useState } from "react";
import { locked, post } from "./api";

/** Asks once for the key that the program was started with; the browser keeps it for a month. */
export function KeyAsked() {
  const [asked, setAsked] = useState(false);
  const [key, setKey] = useState("");
  const [error, setError] = useState("");
  useEffect(() => {
    locked.tell = () => setAsked(true);
  }, []);
  const show = async () => {
    setError("");
    try {
      await post("/key", { key });
      // Everything is asked for again, from the beginning.
      location.reload();
    } catch (problem) {
      setError((problem as Error).message);
    }
  };
  return (
    <Dialog open={asked} maxWidth="xs" fullWidth aria-labelledby="key-title">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void show();
        }}
      >
        <DialogTitle id="key-title">This program asks for its key</DialogTitle>
        <DialogContent sx={{ display: "flex", flexDirection: "column", gap: 2 }}>
          <Typography>Whoever started it chose the key: YIELDING_TETHER_KEY.</Typography>
          <TextField autoFocus type="password" size="small" label="Key" value={key} error={error !== ""} helperText={error} onChange={(e) => setKey(e.target.value)} />
        </DialogContent>
        <DialogActions>
          <Button type="submit" variant="contained" disableElevation disabled={key === ""}>
            Go on
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}
