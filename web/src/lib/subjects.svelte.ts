import { api, get, type Subject } from './api'
import { changes } from './changes.svelte'

/** The subjects that the session may see, fetched once and again after changes. */
class Subjects {
  all = $state<Subject[]>([])
  private seen = -1

  async load() {
    if (this.seen === changes.count) return
    this.seen = changes.count
    const all: Subject[] = []
    for (let after: string | undefined = ''; after !== undefined;) {
      const page: { items: Subject[]; next?: string } = await get(
        api.GET('/api/v1/subjects', { params: { query: { after: after || undefined, limit: 5000 } } }),
      )
      all.push(...page.items)
      after = page.next || undefined
    }
    this.all = all
  }

  /** Whose grants, roles and rows one can look at or change. */
  get refs(): string[] {
    return this.all.map((s) => s.ref)
  }
}

export const subjects = new Subjects()
