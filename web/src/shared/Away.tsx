import { Alert } from "@mui/material";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { away } from "./api";
import { useNotice } from "./notice";

/** Says that service or database are away, asks until they are back, and then brings the page up to date. */
export function Away() {
  const [gone, setGone] = useState(false);
  const client = useQueryClient();
  useEffect(() => {
    away.tell = () => setGone(true);
    return () => {
      away.tell = () => {};
    };
  }, []);
  useEffect(() => {
    if (!gone) return;
    const timer = setInterval(() => {
      fetch("/api/health").then(
        (answer) => {
          if (!answer.ok) return;
          setGone(false);
          useNotice.getState().say("The service is back; this page shows what is stored.");
          void client.invalidateQueries();
        },
        () => undefined,
      );
    }, 700);
    return () => clearInterval(timer);
  }, [gone, client]);
  if (!gone) return null;
  return (
    <Alert severity="warning" icon={<span aria-hidden>▲</span>} data-testid="away" role="status" sx={{ position: "fixed", top: 52, left: "50%", transform: "translateX(-50%)", zIndex: 2000, border: 1 }}>
      The service or its database is away. Everything that was applied is safe; this page goes on by itself when they are back.
    </Alert>
  );
}
