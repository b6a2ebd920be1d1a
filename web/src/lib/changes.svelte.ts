import { says, type Changed, type Problem } from './api'

/** A message about a change that was made, with the way back. */
interface Notice {
  id: number
  changed?: Changed
  problem?: Problem
  undo?: () => Promise<Changed>
}

/** The changes made in this console: what they did, undo, and a count by which pages know to look again. */
class Changes {
  count = $state(0)
  notices = $state<Notice[]>([])
  private last = 0
  private revision = 0

  /** Tells of a change that was made. */
  made(changed: Changed, undo?: () => Promise<Changed>) {
    this.revision = Math.max(this.revision, changed.revision)
    this.count++
    // What went into a draft is taken out there: once the draft is left, its undo would change what is in force.
    this.tell({ id: ++this.last, changed, undo: changed.draft ? undefined : undo })
  }

  /** Takes note of a revision: one that was not made here has the pages look again. */
  heard(revision: number) {
    if (revision > this.revision && this.revision > 0) this.count++
    this.revision = Math.max(this.revision, revision)
  }

  failed(error: unknown) {
    this.tell({ id: ++this.last, problem: says(error) })
  }

  async undo(notice: Notice) {
    this.dismiss(notice.id)
    try {
      this.made(await notice.undo!())
    } catch (error) {
      this.failed(error)
    }
  }

  dismiss(id: number) {
    this.notices = this.notices.filter((n) => n.id !== id)
  }

  private tell(notice: Notice) {
    this.notices = [...this.notices.slice(-1), notice]
    setTimeout(() => this.dismiss(notice.id), 20_000)
  }
}

export const changes = new Changes()

/** Makes one change for each item, one after the other, and tells what they do as one change. */
export async function together<T>(items: T[], change: (item: T) => Promise<Changed>): Promise<Changed> {
  const all: Changed[] = []
  for (const item of items) all.push(await change(item))
  return {
    ...all.at(-1)!,
    says: all.flatMap((c) => c.says),
    notes: [...new Set(all.flatMap((c) => c.notes))],
    effects: all.flatMap((c) => c.effects),
  }
}
