import { createSystem, defaultConfig, defineConfig } from "@chakra-ui/react";

// Ink, paper, brass and sea glass: the colours of a lamp room at night. Quiet
// enough to be left open on a second screen; brass is for what asks for a hand.
const config = defineConfig({
  globalCss: {
    html: { colorPalette: "brass" },
    body: { bg: "bg", color: "fg", fontVariantNumeric: "tabular-nums" },
    "*:focus-visible": { outline: "2px solid {colors.brass.solid}", outlineOffset: "2px" },
  },
  theme: {
    tokens: {
      fonts: {
        heading: { value: "'Avenir Next', 'Segoe UI', 'Noto Sans', 'DejaVu Sans', system-ui, sans-serif" },
        body: { value: "'Avenir Next', 'Segoe UI', 'Noto Sans', 'DejaVu Sans', system-ui, sans-serif" },
      },
      colors: {
        ink: {
          50: { value: "#f4f1ea" },
          100: { value: "#e9e4d8" },
          200: { value: "#d5cfc0" },
          300: { value: "#b5b1a6" },
          400: { value: "#8b919a" },
          500: { value: "#606b78" },
          600: { value: "#465362" },
          700: { value: "#2c3947" },
          800: { value: "#1d2835" },
          900: { value: "#151e29" },
          950: { value: "#0e151d" },
        },
        brass: {
          100: { value: "#f6e7c8" },
          300: { value: "#e0b872" },
          400: { value: "#cf9f52" },
          600: { value: "#8a5f1d" },
          700: { value: "#6d4a15" },
        },
        glass: {
          100: { value: "#d3ebe7" },
          300: { value: "#7cc7be" },
          400: { value: "#54aea4" },
          600: { value: "#1f6f67" },
          700: { value: "#17564f" },
        },
        coral: { 300: { value: "#f09a8b" }, 400: { value: "#e07a69" }, 600: { value: "#ab3a29" } },
      },
    },
    semanticTokens: {
      colors: {
        bg: { DEFAULT: { value: { _light: "{colors.ink.50}", _dark: "{colors.ink.950}" } } },
        paper: { value: { _light: "#fdfcf9", _dark: "{colors.ink.900}" } },
        rail: { value: { _light: "{colors.ink.100}", _dark: "#0a1017" } },
        line: { value: { _light: "{colors.ink.200}", _dark: "{colors.ink.700}" } },
        fg: {
          DEFAULT: { value: { _light: "#1a2530", _dark: "#e6e3da" } },
          muted: { value: { _light: "#525d69", _dark: "#9fa9b4" } },
        },
        waiting: { value: { _light: "{colors.ink.200}", _dark: "{colors.ink.700}" } },
        rendering: { value: { _light: "{colors.brass.400}", _dark: "{colors.brass.300}" } },
        done: { value: { _light: "{colors.glass.600}", _dark: "{colors.glass.400}" } },
        failed: { value: { _light: "{colors.coral.600}", _dark: "{colors.coral.400}" } },
        brass: {
          solid: { value: { _light: "{colors.brass.600}", _dark: "{colors.brass.300}" } },
          contrast: { value: { _light: "white", _dark: "{colors.ink.950}" } },
          fg: { value: { _light: "{colors.brass.700}", _dark: "{colors.brass.300}" } },
          muted: { value: { _light: "{colors.brass.100}", _dark: "#3a3020" } },
          subtle: { value: { _light: "{colors.brass.100}", _dark: "#2a251b" } },
          emphasized: { value: { _light: "{colors.brass.300}", _dark: "#54442a" } },
          focusRing: { value: { _light: "{colors.brass.600}", _dark: "{colors.brass.300}" } },
        },
        glass: {
          solid: { value: { _light: "{colors.glass.600}", _dark: "{colors.glass.400}" } },
          fg: { value: { _light: "{colors.glass.700}", _dark: "{colors.glass.300}" } },
          subtle: { value: { _light: "{colors.glass.100}", _dark: "#14302e" } },
        },
      },
    },
  },
});

export const system = createSystem(defaultConfig, config);
