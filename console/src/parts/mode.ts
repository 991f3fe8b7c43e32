import { useEffect, useState } from "react";

export type Mode = "light" | "dark";

const kept = "rotanex-mode";

/** What the viewer chose here before, else what their system prefers. */
export const preferred = (): Mode => {
  const stored = localStorage.getItem(kept);
  if (stored === "light" || stored === "dark") return stored;
  return matchMedia("(prefers-color-scheme: light)").matches ? "light" : "dark";
};

/** Light or dark: what the viewer chose here before, else what their system prefers. */
export function useMode(): [Mode, () => void] {
  const [mode, setMode] = useState(preferred);
  useEffect(() => {
    document.documentElement.classList.remove("light", "dark");
    document.documentElement.classList.add(mode);
    document.documentElement.style.colorScheme = mode;
  }, [mode]);
  const toggle = () =>
    setMode((old) => {
      const next = old === "dark" ? "light" : "dark";
      localStorage.setItem(kept, next);
      return next;
    });
  return [mode, toggle];
}
