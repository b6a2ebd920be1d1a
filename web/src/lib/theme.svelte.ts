export type Theme = 'system' | 'light' | 'dark'

const key = 'gneiss-theme'

/** Light or dark, as this browser's user chose it; else as their system has it. */
class Looks {
  theme = $state<Theme>((localStorage.getItem(key) as Theme | null) ?? 'system')

  constructor() {
    this.apply()
  }

  choose(theme: Theme) {
    this.theme = theme
    if (theme === 'system') localStorage.removeItem(key)
    else localStorage.setItem(key, theme)
    this.apply()
  }

  private apply() {
    document.documentElement.style.colorScheme = this.theme === 'system' ? 'light dark' : this.theme
  }
}

export const looks = new Looks()
