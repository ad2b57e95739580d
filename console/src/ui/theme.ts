// Light or dark: as the system has it until somebody chooses.
const key = "dowse theme";

export type Theme = "light" | "dark";

const system = () => (window.matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light");

export function currentTheme(): Theme {
  const chosen = localStorage.getItem(key);
  return chosen === "light" || chosen === "dark" ? chosen : system();
}

function show(theme: Theme) {
  document.documentElement.dataset.theme = theme;
}

export function startTheme() {
  show(currentTheme());
  window.matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => show(currentTheme()));
}

export function toggleTheme(): Theme {
  const next = currentTheme() === "dark" ? "light" : "dark";
  localStorage.setItem(key, next);
  show(next);
  return next;
}
