import { api, get, type Schemas } from './api'
import { changes } from './changes.svelte'
import { vocabulary } from './vocabulary.svelte'

export type Bundle = Schemas['WireBundle']

/** The named sets of privileges, fetched once and again after changes. */
class Bundles {
  all = $state<Bundle[]>([])
  private seen = -1

  async load() {
    if (this.seen === changes.count) return
    this.seen = changes.count
    this.all = (await get(api.GET('/api/v1/bundles', {}))).items
  }
}

export const bundles = new Bundles()

/** Whether a bundle has something that applies to an object of a kind, or below it. */
export function fits(bundle: Bundle, kind: string): boolean {
  return kind !== 'lane' && bundle.privileges.some((p) => vocabulary.applies(p, kind) || p !== 'USAGE')
}

/** The objects that are picked for one change, by path; value is the kind. */
class Picked {
  on = $state(false)
  paths = $state<Record<string, string>>({})

  get list(): string[] {
    return Object.keys(this.paths)
  }

  toggle(path: string, kind: string) {
    const { [path]: there, ...rest } = this.paths
    this.paths = there ? rest : { ...rest, [path]: kind }
  }

  clear() {
    this.paths = {}
    this.on = false
  }
}

export const picked = new Picked()
