// The page at /api: the contract, readable. It is rendered from what the service itself serves.
import "rapidoc/dist/rapidoc-min.js";
import { preferred } from "./parts/mode";

const colours = {
  light: { "bg-color": "#f4f1ea", "text-color": "#1a2530", "primary-color": "#8a5f1d", "nav-bg-color": "#e9e4d8" },
  dark: { "bg-color": "#0e151d", "text-color": "#e6e3da", "primary-color": "#e0b872", "nav-bg-color": "#0a1017" },
};

const mode = preferred();
const page = document.createElement("rapi-doc");
const attributes = {
  "spec-url": "/api/openapi.json",
  theme: mode,
  ...colours[mode],
  "render-style": "focused",
  "schema-style": "table",
  "show-header": "false",
  "allow-try": "false", // who tries something does it knowingly, with a token of their own
  "allow-authentication": "false",
  "allow-server-selection": "false",
  "load-fonts": "false",
  "regular-font": "'Avenir Next', 'Segoe UI', 'Noto Sans', 'DejaVu Sans', system-ui, sans-serif",
  "show-method-in-nav-bar": "as-colored-text",
  "use-path-in-nav-bar": "true",
  "nav-item-spacing": "compact",
};
for (const [name, value] of Object.entries(attributes)) page.setAttribute(name, value);
document.body.append(page);
