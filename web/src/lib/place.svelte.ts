import type { Standpoint } from './api'

/** Where the console is: the page, and as whom it looks. Both stand in the address. */
class Place {
  path = $state(location.pathname)
  query = $state(new URLSearchParams(location.search))

  constructor() {
    addEventListener('popstate', () => this.read())
  }

  private read() {
    this.path = location.pathname
    this.query = new URLSearchParams(location.search)
  }

  /** The standpoint that the whole console looks from. */
  get at(): Standpoint {
    const at: Standpoint = {}
    for (const key of ['as', 'role', 'purpose'] as const) {
      const value = this.query.get(key)
      if (value) at[key] = value
    }
    return at
  }

  /** The state that the console is about: through a draft, or at a moment; neither: as it is now. */
  get moment(): { draft?: string; at?: string } {
    const [draft, at] = [this.query.get('draft'), this.query.get('at')]
    return draft ? { draft } : at ? { at } : {}
  }

  /** The second standpoint, beside the first; empty for none. */
  get beside(): string {
    return this.query.get('beside') ?? ''
  }

  get elsewhere(): boolean {
    return !!(this.at.as || this.at.role || this.at.purpose)
  }

  /** The tab that the address names, where it is one of these; else another. */
  tab(tabs: [name: string, title: string][], otherwise: string): string {
    const named = this.query.get('tab') ?? ''
    return tabs.some(([name]) => name === named) ? named : otherwise
  }

  /** The address of a page from the same standpoint. */
  href(path: string, more: Record<string, string> = {}): string {
    const kept = new URLSearchParams()
    for (const key of ['as', 'role', 'purpose', 'beside', 'draft', 'at']) {
      const value = this.query.get(key)
      if (value) kept.set(key, value)
    }
    for (const [key, value] of Object.entries(more)) {
      if (value) kept.set(key, value)
      else kept.delete(key)
    }
    const text = kept.toString()
    return text ? `${path}?${text}` : path
  }

  go(path: string, more: Record<string, string> = {}) {
    history.pushState(null, '', this.href(path, more))
    this.read()
  }

  /** Goes there in the place of where it is: Back does not return to an address that only led on. */
  become(path: string, more: Record<string, string> = {}) {
    history.replaceState(null, '', this.href(path, more))
    this.read()
  }

  /** Looks from another standpoint, on the same page. */
  look(change: { as?: string; role?: string; purpose?: string; beside?: string; draft?: string; at?: string }) {
    const next = new URLSearchParams(this.query)
    for (const [key, value] of Object.entries(change)) {
      if (value) next.set(key, value)
      else next.delete(key)
    }
    const text = next.toString()
    history.pushState(null, '', text ? `${this.path}?${text}` : this.path)
    this.read()
  }

  stepBack() {
    this.look({ as: '', role: '', purpose: '', beside: '', draft: '', at: '' })
  }
}

export const place = new Place()

/** Makes links of the console change the page without a full load. */
export function follow(event: MouseEvent) {
  const link = (event.target as Element).closest('a')
  const href = link?.getAttribute('href')
  if (!link || !href || event.defaultPrevented || event.button !== 0) return
  if (event.metaKey || event.ctrlKey || event.shiftKey) return
  // A link of a picture has no address of its own as that of a page has.
  const to = new URL(href, location.href)
  if (to.origin !== location.origin || link.getAttribute('target') || link.hasAttribute('download')) return
  event.preventDefault()
  history.pushState(null, '', to.pathname + to.search)
  dispatchEvent(new PopStateEvent('popstate'))
}
