import { api, get, setSession, type Session } from './api'
import { place } from './place.svelte'

/** Who is signed in. */
class Signed {
  private kept = $state<Session | null>(null)
  known = $state(false)

  /** The session. At a moment of the past nobody administers: what was cannot be changed, and no button offers to. */
  get session(): Session | null {
    return this.kept && place.moment.at ? { ...this.kept, administrator: false } : this.kept
  }

  set session(session: Session | null) {
    this.kept = session
  }

  async load() {
    try {
      this.take(await get(api.GET('/api/v1/session', {})))
    } catch {
      this.session = null
    }
    this.known = true
  }

  take(session: Session) {
    this.session = session
    setSession(session.csrf ?? '', () => (this.session = null))
  }

  async signOut() {
    await get(api.DELETE('/api/v1/session', {}))
    forget()
  }
}

/** Leaves nothing of this account to the next one: neither what is kept in the browser nor what the pages hold. */
function forget() {
  for (const key of Object.keys(localStorage)) if (key.startsWith('gneiss-')) localStorage.removeItem(key)
  location.assign('/')
}

export const signed = new Signed()
