// Light or dark: the system's wish, unless the reader has chosen.
const system = window.matchMedia('(prefers-color-scheme: dark)');

function chosen(): string | null {
  return localStorage.getItem('oskeld-theme');
}

export const theme = $state({ dark: false });

export function applyTheme() {
  theme.dark = chosen() ? chosen() === 'dark' : system.matches;
  document.documentElement.classList.toggle('dark', theme.dark);
}

export function turnTheme() {
  localStorage.setItem('oskeld-theme', theme.dark ? 'light' : 'dark');
  applyTheme();
}

system.addEventListener('change', applyTheme);
