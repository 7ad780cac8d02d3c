export type Theme = 'light' | 'dark' | 'system'
export const themeNames: Record<Theme, string> = { light: 'Light', dark: 'Dark', system: 'As the system' }

export function readTheme(): Theme {
  const t = localStorage.getItem('theme')
  return t === 'light' || t === 'dark' ? t : 'system'
}

export function applyTheme(t: Theme = readTheme()) {
  document.documentElement.style.colorScheme = t === 'system' ? '' : t
}
