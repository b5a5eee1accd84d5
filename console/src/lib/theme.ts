/** How the console looks: by day, by night, or as the system does. */
export type ThemeChoice = "paper" | "night" | "system";

const STORAGE = "yonder-theme";
const dark = window.matchMedia("(prefers-color-scheme: dark)");

export function keptTheme(): ThemeChoice {
  const kept = window.localStorage.getItem(STORAGE);
  return kept === "paper" || kept === "night" ? kept : "system";
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
