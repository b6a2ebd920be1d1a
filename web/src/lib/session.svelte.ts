import { api, get, setSession, type Session } from './api'

/** Who is signed in. */
class Signed {
  session = $state<Session | null>(null)
  known = $state(false)

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
    this.session = null
  }
}

export const signed = new Signed()
