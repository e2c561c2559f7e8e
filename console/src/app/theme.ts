// The one place where colours are named. Chalk and slate are the grounds; heather is what executes, moss what is
// ready, bracken what waits, gritstone what is away, and rust the one red, for what needs a person.
import { useSyncExternalStore } from "react";
import { createSystem, defaultConfig, defineConfig, defineRecipe, defineSlotRecipe } from "@chakra-ui/react";

const tone = (light: string, dark: string) => ({ value: { _light: light, _dark: dark } });

// How the library's own components look here. A component says what it is (a button's variant), never its colours.
const button = defineRecipe({
  base: { borderRadius: "3px", fontWeight: "500", transitionDuration: "0s", focusVisibleRing: "none" },
  variants: {
    size: { xs: { h: "28px", minW: "28px", fontSize: "13px" }, sm: { h: "34px", fontSize: "14px" } },
    variant: {
      // What a form or dialog is for.
      solid: { bg: "heather", color: "ground", _hover: { bg: "heather", opacity: 0.9 } },
      // Everything else that can be done.
      outline: {
        "--outline-color": "colors.edge",
        color: "ink",
        _hover: { bg: "hollow" },
        _pressed: { bg: "hollow", borderColor: "ink" },
      },
      // Leaves things as they are.
      ghost: { color: "quiet", _hover: { bg: "hollow" } },
      // Leads to something that cannot be undone.
      surface: { bg: "transparent", color: "rust", borderColor: "rust", shadow: "none", _hover: { bg: "rustWash" } },
      // Does it.
      subtle: { bg: "rust", color: "ground", _hover: { bg: "rust", opacity: 0.9 } },
    },
  },
  defaultVariants: { size: "xs", variant: "outline" },
});

const control = {
  bg: "ground",
  color: "ink",
  borderColor: "edge",
  borderRadius: "3px",
  fontSize: "14px",
  _focusVisible: { outline: "2px solid {colors.heather}", outlineOffset: "1px" },
} as const;

const input = defineRecipe({
  base: { focusVisibleRing: "none", fontSize: "14px", _placeholder: { color: "quiet", opacity: 0.85 } },
  variants: { variant: { outline: { ...control, _invalid: { borderColor: "rust" } } } },
});

const textarea = defineRecipe({
  base: { focusVisibleRing: "none", _placeholder: { color: "quiet", opacity: 0.85 } },
  variants: { variant: { outline: { ...control, _invalid: { borderColor: "rust" } } } },
});

const nativeSelect = defineSlotRecipe({
  slots: ["root", "field", "indicator"],
  variants: { variant: { outline: { field: control } } },
});

const field = defineSlotRecipe({
  slots: ["root", "label", "helperText", "errorText", "requiredIndicator"],
  base: {
    root: { gap: "3px" },
    label: { fontSize: "14px", fontWeight: "500", userSelect: "auto" },
    helperText: { fontSize: "13px", color: "quiet", lineHeight: "1.35" },
    errorText: { fontSize: "13px", color: "rust", lineHeight: "1.35" },
    requiredIndicator: { color: "rust" },
  },
});

const dialog = defineSlotRecipe({
  slots: ["backdrop", "positioner", "content", "header", "title", "body", "footer", "closeTrigger", "description", "trigger"],
  base: {
    backdrop: { animation: "none" },
    content: { bg: "sheet", color: "ink", borderRadius: "4px", border: "1px solid", borderColor: "edge", fontSize: "15px", animation: "none" },
    header: { px: "24px", pt: "18px", pb: "6px" },
    title: { fontSize: "18px", fontWeight: "600" },
    body: { px: "24px", pt: "6px", pb: "14px" },
    footer: { px: "24px", pt: "6px", pb: "18px", justifyContent: "flex-start", gap: "10px" },
  },
});

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
    recipes: { button, input, textarea },
    slotRecipes: { nativeSelect, field, dialog },
    tokens: {
      fonts: {
        body: { value: "'Source Sans 3', 'Segoe UI', 'Noto Sans', 'DejaVu Sans', sans-serif" },
        heading: { value: "'Source Sans 3', 'Segoe UI', 'Noto Sans', 'DejaVu Sans', sans-serif" },
        mono: { value: "'Source Code Pro', 'Noto Sans Mono', 'DejaVu Sans Mono', monospace" },
      },
    },
    semanticTokens: {
      colors: {
        // The library's own names.
        bg: { DEFAULT: { value: "{colors.ground}" }, panel: { value: "{colors.sheet}" }, muted: { value: "{colors.hollow}" } },
        fg: { DEFAULT: { value: "{colors.ink}" }, muted: { value: "{colors.quiet}" }, error: { value: "{colors.rust}" } },
        border: { DEFAULT: { value: "{colors.rule}" }, error: { value: "{colors.rust}" } },
        ground: tone("#f6f3ec", "#1c2226"),
        sheet: tone("#fffdf8", "#232a2f"),
        hollow: tone("#ebe7dc", "#161b1e"),
        ink: tone("#23292d", "#ebe7dd"),
        quiet: tone("#5c5f5a", "#aeb1aa"),
        rule: tone("#cfc9ba", "#414a50"),
        // The edge of what can be typed into or pressed.
        edge: tone("#8d887a", "#727c82"),
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
        waitApproval: tone("#b5485a", "#e08a97"),
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
