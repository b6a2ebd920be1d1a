/** What a cell of a grid holds: nothing, a text, or a number. Decimals are texts, to be exact. */
export type Value = string | number | boolean | null | undefined

/** A column of a grid. */
export interface Column<T> {
  /** What it is known by: stands nowhere twice in a grid. */
  id: string
  head: string
  /** What the cell holds, by which the grid sorts and filters, and which it copies. */
  value: (row: T) => Value
  /** Numbers are aligned right and sorted as such. */
  number?: boolean
  /** Where a heading would say nothing that is not plain to see: it is there for screen readers alone. */
  quiet?: boolean
  /** Controls, which are neither sorted, filtered, hidden nor copied. */
  controls?: boolean
  /** Words for a tooltip of the heading. */
  title?: string
  /** Classes of its cells. */
  class?: string
}

/** How a grid is looked at: what the reader chose. */
export interface Look {
  sort: string
  down: boolean
  /** A text that a row has somewhere, in lower case. */
  filter: string
  /** Texts that single columns have, in lower case, by their ids. */
  filters: Record<string, string>
  hidden: string[]
  /** Widths in pixels, by the columns' ids: none until one is set, and then all. */
  widths: Record<string, number>
}

export const plain = (): Look => ({ sort: '', down: false, filter: '', filters: {}, hidden: [], widths: {} })

const collator = new Intl.Collator('en', { numeric: true })
const text = (value: Value) => (value === null || value === undefined ? '' : String(value))

// NULL comes last, as the database has it; numbers too long for a machine's are told apart by their digits.
function compare(a: Value, b: Value, number: boolean): number {
  const [left, right] = [a ?? null, b ?? null]
  if (left === null || right === null) return Number(left === null) - Number(right === null)
  if (number) {
    const gap = Number(left) - Number(right)
    if (gap) return gap
  }
  return collator.compare(text(left), text(right))
}

/** The rows as they are looked at: those that the filters leave, sorted. Equal rows keep their order. */
export function arranged<T>(rows: T[], columns: Column<T>[], look: Look): T[] {
  const holding = columns.filter((c) => !c.controls)
  const asked = holding.filter((c) => look.filters[c.id])
  const found = rows.filter(
    (row) =>
      asked.every((c) => text(c.value(row)).toLowerCase().includes(look.filters[c.id]!)) &&
      (!look.filter || holding.some((c) => text(c.value(row)).toLowerCase().includes(look.filter))),
  )
  const by = holding.find((c) => c.id === look.sort)
  if (!by) return found
  const way = look.down ? -1 : 1
  return found.sort((a, b) => way * compare(by.value(a), by.value(b), !!by.number))
}

/** Lines of cells as text with tabs between, as spreadsheets paste it. */
export const tabbed = (lines: Value[][]) =>
  lines.map((line) => line.map((v) => text(v).replaceAll(/[\t\r\n]+/g, ' ')).join('\t')).join('\n')

// What a spreadsheet would take for a formula has an apostrophe before it. NULL is
// nothing, and a text without letters is "".
function cell(value: Value): string {
  if (value === null || value === undefined) return ''
  const guarded =
    typeof value === 'string' && /^[=+\-@\t\r]/.test(value) && !/^-\d+(\.\d+)?$/.test(value) ? `'${value}` : text(value)
  return guarded === '' || /[",\r\n]/.test(guarded) ? `"${guarded.replaceAll('"', '""')}"` : guarded
}

/** Rows as CSV (RFC 4180), the columns' headings first. */
export function csv<T>(rows: T[], columns: Column<T>[]): string {
  const lines = [columns.map((c) => cell(c.head)), ...rows.map((row) => columns.map((c) => cell(c.value(row))))]
  return lines.map((line) => line.join(',') + '\r\n').join('')
}

/** Has the browser save a text as a file. */
export function save(name: string, content: string, type: string) {
  const url = URL.createObjectURL(new Blob([content], { type }))
  const link = document.createElement('a')
  link.href = url
  link.download = name
  link.click()
  setTimeout(() => URL.revokeObjectURL(url), 60_000)
}
