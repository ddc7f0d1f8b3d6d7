import { createTheme } from "@mui/material/styles";

/** Paper and ink by day, the same sheet by lamplight in the dark variant. */
export const inks = {
  light: {
    paper: "#f6f0e2",
    sheet: "#fffaf0",
    table: "#ebe2cf",
    ink: "#1f2d36",
    soft: "#5b6870",
    line: "#cfc4ac",
    accent: "#0d6b62",
    accentSoft: "#cfe5de",
    left: "#2d5fa8",
    right: "#a8501a",
    middle: "#5a5347",
    alarm: "#a3193b",
    sky: "#dfe7e4",
    water: "#b9cfd0",
  },
  dark: {
    paper: "#23282a",
    sheet: "#2c3335",
    table: "#1b1f21",
    ink: "#efe8d8",
    soft: "#b3b1a6",
    line: "#4a5254",
    accent: "#63c2b3",
    accentSoft: "#27433f",
    left: "#8ab4ee",
    right: "#eda06a",
    middle: "#c4bba8",
    alarm: "#ff8fa3",
    sky: "#2b3436",
    water: "#33494d",
  },
} as const;

export type Ink = { [K in keyof (typeof inks)["light"]]: string };

declare module "@mui/material/styles" {
  interface Theme {
    ink: Ink;
  }
  interface ThemeOptions {
    ink?: Ink;
  }
}

export function makeTheme(mode: "light" | "dark") {
  const ink = inks[mode];
  return createTheme({
    ink,
    palette: {
      mode,
      primary: { main: ink.accent },
      error: { main: ink.alarm },
      background: { default: ink.paper, paper: ink.sheet },
      text: { primary: ink.ink, secondary: ink.soft },
      divider: ink.line,
    },
    shape: { borderRadius: 8 },
    typography: {
      fontFamily: "'Figtree Variable', system-ui, sans-serif",
      fontSize: 13,
      button: { textTransform: "none", fontWeight: 600 },
    },
    components: {
      MuiCssBaseline: {
        styleOverrides: {
          "html, body, #root": { height: "100%" },
          // What the browser draws itself, boxes to tick among it, is of the same light.
          html: { colorScheme: mode },
          body: { fontVariantNumeric: "tabular-nums", overflow: "hidden" },
          ":focus-visible": { outline: `3px solid ${ink.accent}`, outlineOffset: 1 },
          // Who asked their system for less motion sees each change at once.
          "@media (prefers-reduced-motion: reduce)": {
            "*, *::before, *::after": { animationDuration: "0.01ms !important", animationIterationCount: "1 !important", transitionDuration: "0.01ms !important", transitionDelay: "0s !important" },
          },
        },
      },
      MuiButtonBase: { defaultProps: { disableRipple: true } },
      MuiPaper: { styleOverrides: { root: { backgroundImage: "none" } } },
      MuiTooltip: { defaultProps: { arrow: true, enterDelay: 500, describeChild: true, disableInteractive: true } },
    },
  });
}

/** Left is one mark, right is two, the middle none: never told by hue alone. */
export const sideMark: Record<string, string> = { left: "▏", right: "▏▏", middle: "" };
