import type { Standpoint } from './api'

const key = 'gneiss-standpoints'
const most = 6

/** The standpoints that were looked from last in this browser, the latest first. */
class Recent {
  list = $state<Standpoint[]>(read())

  add(at: Standpoint) {
    if (!at.as && !at.role && !at.purpose) return
    const text = JSON.stringify(at)
    if (JSON.stringify(this.list[0]) === text) return
    this.list = [at, ...this.list.filter((other) => JSON.stringify(other) !== text)].slice(0, most)
    localStorage.setItem(key, JSON.stringify(this.list))
  }
}

function read(): Standpoint[] {
  try {
    const kept = JSON.parse(localStorage.getItem(key) ?? '[]')
    return Array.isArray(kept) ? kept.slice(0, most) : []
  } catch {
    return []
  }
}

/** A standpoint in words: "user:flint, role district_geologist, purpose audit". */
export function named(at: Standpoint): string {
  return [at.as, at.role && `role ${at.role.replace(/^role:/, '')}`, at.purpose && `purpose ${at.purpose}`]
    .filter(Boolean)
    .join(', ')
}

export const recent = new Recent()
