import { Alert, Box, CssBaseline, Snackbar, ThemeProvider } from "@mui/material";
import { useEffect, useMemo, useState } from "react";
import { Home } from "./home/Home";
import { Away } from "./shared/Away";
import { BringIn } from "./shared/BringIn";
import { useBringIn } from "./shared/captures";
import { KeyAsked } from "./shared/KeyAsked";
import { later } from "./shared/later";
import { useNotice } from "./shared/notice";
import { usePath } from "./shared/route";
import { makeTheme } from "./shared/theme";

export const Bench = later(() => import("./bench/Bench"), "Laying out the bench…");
const Compare = later(() => import("./compare/Compare"), "Laying both out…");
const Fit = later(() => import("./fit/Fit"), "Measuring the body…");
// Fetched while the page still asks what to show: the bench is where nearly everyone goes.
void Bench.come();

function storedMode(): "light" | "dark" {
  return localStorage.getItem("ground") === "dark" ? "dark" : "light";
}

/** The whole application: Home, or the bench of one take. A file dropped anywhere is brought in. */
export function App() {
  const [mode, setMode] = useState(storedMode);
  const theme = useMemo(() => makeTheme(mode), [mode]);
  const path = usePath();
  const compare = /^\/take\/(\d+)\/compare\/(\d+)\/(\d+)/.exec(path);
  const fit = /^\/scene\/(\d+)\/fit\/([^/?]+)/.exec(path);
  const take = /^\/take\/(\d+)/.exec(path)?.[1];

  useEffect(() => {
    const over = (event: DragEvent) => event.preventDefault();
    const drop = (event: DragEvent) => {
      event.preventDefault();
      const file = event.dataTransfer?.files[0];
      if (file) useBringIn.getState().put(file);
    };
    window.addEventListener("dragover", over);
    window.addEventListener("drop", drop);
    return () => {
      window.removeEventListener("dragover", over);
      window.removeEventListener("drop", drop);
    };
  }, []);

  const toggle = () => {
    const next = mode === "light" ? "dark" : "light";
    localStorage.setItem("ground", next);
    setMode(next);
  };

  return (
    <ThemeProvider theme={theme}>
      <CssBaseline />
      <Away />
      <BringIn />
      <KeyAsked />
      {compare ? (
        <Compare takeId={Number(compare[1])} a={Number(compare[2])} b={Number(compare[3])} other={Number(new URLSearchParams(location.search).get("with") ?? compare[1])} />
      ) : fit ? (
        <Fit key={path} sceneId={Number(fit[1])} member={decodeURIComponent(fit[2]!)} first={new URLSearchParams(location.search).get("part") ?? ""} />
      ) : take ? (
        <Bench key={take} takeId={Number(take)} onGround={toggle} />
      ) : (
        <Home onGround={toggle} />
      )}
      <Told />
    </ThemeProvider>
  );
}

/** What is told at the top until it is closed, or has been there long enough to be read. */
function Told() {
  const notice = useNotice();
  const [unfolded, setUnfolded] = useState("");
  const wrong = notice.kind === "wrong";
  const long = notice.more.length > 0;
  return (
    <Snackbar key={notice.text} anchorOrigin={{ vertical: "top", horizontal: "center" }} sx={{ mt: "34px" }} open={notice.text !== ""} autoHideDuration={notice.kind !== "told" || (long && unfolded === notice.text) ? null : long ? 12000 : 6000} onClose={(_, why) => why !== "clickaway" && notice.clear()}>
      <Alert severity={wrong ? "error" : "info"} color={wrong ? "error" : "success"} variant="standard" icon={<span aria-hidden>{{ told: "✓", asked: "›", wrong: "▲" }[notice.kind]}</span>} onClose={notice.clear} sx={{ maxWidth: 720, border: 1, borderColor: wrong ? "error.main" : "divider", bgcolor: "background.paper", color: "text.primary", boxShadow: 6 }}>
        {notice.text}
        {long && (
          <Box component="details" onToggle={(event) => setUnfolded(event.currentTarget.open ? notice.text : "")} sx={{ mt: 0.5, "& summary": { cursor: "pointer", color: "primary.main" }, "& p": { my: 0.5 } }}>
            <summary>{notice.more.length === 1 ? "One thing was noticed" : `${notice.more.length} things were noticed`}</summary>
            {notice.more.map((n) => (
              <p key={n}>{n}</p>
            ))}
          </Box>
        )}
      </Alert>
    </Snackbar>
  );
}
