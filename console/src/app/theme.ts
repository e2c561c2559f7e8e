// The one place where colours are named. Chalk and slate are the grounds; heather is what executes, moss what is
// ready, bracken what waits, gritstone what is away, and rust the one red, for what needs a person.
import { useSyncExternalStore } from "react";
import { createSystem, defaultConfig, defineConfig } from "@chakra-ui/react";

const tone = (light: string, dark: string) => ({ value: { _light: light, _dark: dark } });

const config = defineConfig({
  globalCss: {
    "html, body": { bg: "ground", color: "ink", fontSize: "15px", lineHeight: "1.45" },
    "*:focus-visible": { outline: "2px solid {colors.heather}", outlineOffset: "2px" },
    "main a": {
      color: "inherit",
      textDecorationLine: "underline",
      textDecorationColor: "{colors.gritstone}",
      textDecorationThickness: "1px",
      textUnderlineOffset: "3px",
    },
    "main a:hover": { textDecorationColor: "currentColor", textDecorationThickness: "2px" },
  },
  theme: {
    tokens: {
      fonts: {
        body: { value: "'Source Sans 3', 'Segoe UI', 'Noto Sans', 'DejaVu Sans', sans-serif" },
        heading: { value: "'Source Sans 3', 'Segoe UI', 'Noto Sans', 'DejaVu Sans', sans-serif" },
        mono: { value: "'Source Code Pro', 'Noto Sans Mono', 'DejaVu Sans Mono', monospace" },
      },
    },
    semanticTokens: {
      colors: {
        ground: tone("#f6f3ec", "#1c2226"),
        sheet: tone("#fffdf8", "#232a2f"),
        hollow: tone("#ebe7dc", "#161b1e"),
        ink: tone("#23292d", "#ebe7dd"),
        quiet: tone("#5c5f5a", "#aeb1aa"),
        rule: tone("#cfc9ba", "#414a50"),
        heather: tone("#6c4a80", "#c6a6da"),
        heatherWash: tone("#dccfe5", "#4b3d57"),
        moss: tone("#4a6033", "#a9c487"),
        mossWash: tone("#d5dfc6", "#3a4830"),
        bracken: tone("#8c5114", "#e3aa66"),
        brackenWash: tone("#f0d9b8", "#57401f"),
        gritstone: tone("#66635a", "#a8a498"),
        gritstoneWash: tone("#dedacf", "#3a3d3d"),
        rust: tone("#a42f17", "#f2917a"),
        rustWash: tone("#f3d3c9", "#5a2b20"),
        // What jobs wait for: earth tones for what passes by itself, rusty ones for what needs a person.
        waitBusy: tone("#8c5114", "#e3aa66"),
        waitComing: tone("#c79a5e", "#8a6431"),
        waitShort: tone("#5d3a12", "#f0cf9f"),
        waitSeat: tone("#9a8434", "#c9b566"),
        waitReserved: tone("#c9bb7e", "#837534"),
        waitLimit: tone("#6f6a45", "#a9a577"),
        waitMatch: tone("#a42f17", "#f2917a"),
        waitReach: tone("#c8664e", "#c4614a"),
        waitOffline: tone("#7a2a1c", "#f7bfae"),
        waitPaused: tone("#d99b8a", "#8a4436"),
        waitUnknown: tone("#c9c4b6", "#4b4a45"),
        waitHandover: tone("#a8a498", "#66635a"),
      },
    },
  },
});

export const system = createSystem(defaultConfig, config);

/** The colour tokens by what they stand for. */
export type Tone = "heather" | "moss" | "bracken" | "gritstone" | "rust";

const KEY = "pennine-theme";

const watchTheme = (heard: () => void) => {
  const observer = new MutationObserver(heard);
  observer.observe(document.documentElement, { attributeFilter: ["class"] });
  return () => observer.disconnect();
};

/** The theme that is on the page, for what is not styled by tokens. */
export const useTheme = (): "light" | "dark" =>
  useSyncExternalStore(watchTheme, () => (document.documentElement.classList.contains("dark") ? "dark" : "light"));

/** Puts the reader's choice, or the system's, on the page. */
export function applyTheme(): "light" | "dark" {
  const chosen = localStorage.getItem(KEY);
  const dark = chosen ? chosen === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.classList.toggle("dark", dark);
  document.documentElement.style.colorScheme = dark ? "dark" : "light";
  return dark ? "dark" : "light";
}

/** Turns to the other theme and remembers it. */
export function turnTheme(): "light" | "dark" {
  localStorage.setItem(KEY, document.documentElement.classList.contains("dark") ? "light" : "dark");
  return applyTheme();
}
