import { api, get, noMomentous, setMomentous, type Schemas } from './api'

/** The names that are the same on every platform, as the service has them: fetched once. */
class Vocabulary {
  all = $state<Schemas['WireVocabulary']>({
    privileges: [],
    treatments: [],
    levels: [],
    actions: [],
    decisions: [],
    looks: [],
    fills: [],
  })

  async load() {
    if (this.all.privileges.length > 0) return
    try {
      this.all = await get(api.GET('/api/v1/vocabulary', {}))
      setMomentous([...this.all.looks, ...this.all.fills])
    } catch (error) {
      noMomentous(error)
      throw error
    }
  }

  /** The privileges in their usual order. */
  get privileges(): string[] {
    return this.all.privileges.map((p) => p.name)
  }

  /** Whether a privilege can be granted on objects of a kind. */
  applies(privilege: string, kind: string): boolean {
    return this.all.privileges.some((p) => p.name === privilege && p.levels.includes(kind))
  }
}

export const vocabulary = new Vocabulary()
