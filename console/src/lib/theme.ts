/** Theme: day, night, or that of the system. */
export type ThemeChoice = "paper" | "night" | "system";

const STORAGE = "yonder-theme";
const dark = window.matchMedia("(prefers-color-scheme: dark)");

export function keptTheme(): ThemeChoice {
  const stored = window.localStorage.getItem(STORAGE);
  return stored === "paper" || stored === "night" ? stored : "system";
}

export function applyTheme(choice: ThemeChoice): void {
  const night = choice === "night" || (choice === "system" && dark.matches);
  document.documentElement.dataset["theme"] = night ? "night" : "paper";
}

export function keepTheme(choice: ThemeChoice): void {
  window.localStorage.setItem(STORAGE, choice);
  applyTheme(choice);
}

dark.addEventListener("change", () => applyTheme(keptTheme()));
