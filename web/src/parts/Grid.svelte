<script lang="ts" generics="T">
  import { tick, type Snippet } from 'svelte'
  import { DropdownMenu } from 'bits-ui'
  import { arranged, csv, plain, save, tabbed, type Column, type Look } from '../lib/grid'
  import { windowed } from '../lib/windowed.svelte'

  // A table of data that its reader can sort, filter, resize, walk through by keyboard,
  // copy and download. Only what is in view is drawn. The keys are those of a grid in
  // WAI-ARIA; a heading sorts with Enter and is made wider with Shift and an arrow.
  let {
    name,
    columns,
    rows,
    total = rows.length,
    key,
    cell,
    under,
    below,
    line,
    tools,
    empty = 'None.',
    tall = 'max-h-[62vh]',
    filtered = $bindable(false),
    testid,
  }: {
    /** What it shows, in a word or two: for screen readers, and as the name of the file. */
    name: string
    columns: Column<T>[]
    rows: T[]
    /** How many there are, where these are the first of more. */
    total?: number
    key: (row: T) => string | number
    /** Draws a cell; without it, its value stands there. */
    cell?: Snippet<[T, Column<T>]>
    /** Draws more under a heading. */
    under?: Snippet<[Column<T>]>
    /** Draws more below a row, where it has more. */
    below?: Snippet<[T]>
    /** Classes of a row's cell beyond those of its column. */
    line?: (row: T, column: Column<T>) => string
    /** Controls of the page above the table. */
    tools?: Snippet
    empty?: string
    tall?: string
    /** Whether the reader looks for something. */
    filtered?: boolean
    testid?: string
  } = $props()

  let look = $state<Look>(plain())
  let scroller = $state<HTMLElement | null>(null)
  let head = $state<HTMLElement | null>(null)
  const shown = $derived(columns.filter((c) => c.controls || !look.hidden.includes(c.id)))
  const holding = $derived(shown.filter((c) => !c.controls))
  const found = $derived(arranged(rows, columns, look))
  const asked = $derived(Object.entries(look.filters).filter(([id, text]) => text && columns.some((c) => c.id === id)))
  $effect(() => {
    filtered = !!look.filter || asked.length > 0
  })

  const few = 60
  const many = $derived(found.length > few)
  const view = windowed(
    () => found.length,
    () => scroller,
    29,
  )
  const drawn = $derived(
    many ? view.items.filter((i) => i.index < found.length).map((i) => i.index) : found.map((_, i) => i),
  )

  // Widths are the browser's own until one is set, or until rows come and go while it is scrolled.
  const fixed = $derived(Object.keys(look.widths).length > 0)
  const width = $derived(shown.reduce((sum, c) => sum + (look.widths[c.id] ?? 120), 0))
  function fix() {
    if (fixed || !head) return
    const cells = [...head.querySelectorAll('th')]
    look.widths = Object.fromEntries(shown.map((c, i) => [c.id, Math.ceil(cells[i]!.getBoundingClientRect().width)]))
  }
  $effect(() => {
    if (many && drawn.length && !fixed) requestAnimationFrame(fix)
  })
  // Other columns, other widths; and other rows, where nobody has set a width.
  const ids = $derived(columns.map((c) => c.id).join('\n'))
  const first = $derived(rows.length ? key(rows[0]!) : '')
  let set = false
  $effect(() => {
    void ids
    set = false
    look.widths = {}
  })
  $effect(() => {
    void first
    if (!set) look.widths = {}
  })
  function widen(id: string, by: number) {
    fix()
    set = true
    look.widths[id] = Math.max(48, (look.widths[id] ?? 120) + by)
  }
  function drag(event: PointerEvent, id: string) {
    event.preventDefault()
    fix()
    set = true
    const [from, start] = [event.clientX, look.widths[id] ?? 120]
    const handle = event.currentTarget as HTMLElement
    handle.setPointerCapture(event.pointerId)
    handle.onpointermove = (e) => (look.widths[id] = Math.max(48, start + e.clientX - from))
    handle.onpointerup = () => (handle.onpointermove = null)
  }

  function sort(c: Column<T>, down = look.sort === c.id && !look.down) {
    if (look.sort === c.id && look.down && !down) look.sort = ''
    else [look.sort, look.down] = [c.id, down]
  }

  // The cell that the keyboard is at, and the other corner of what is marked. Row -1 is the heading.
  let at = $state({ row: -1, column: 0 })
  let corner = $state<{ row: number; column: number } | null>(null)
  const clamp = (n: number, low: number, high: number) => Math.max(low, Math.min(high, n))
  const within = (n: number, a: number, b: number) => n >= Math.min(a, b) && n <= Math.max(a, b)
  const marked = (row: number, column: number) =>
    !!corner && within(row, at.row, corner.row) && within(column, at.column, corner.column)
  async function go(row: number, column: number, mark: boolean) {
    corner = mark && at.row >= 0 ? (corner ?? { ...at }) : null
    at = { row: clamp(row, corner ? 0 : -1, found.length - 1), column: clamp(column, 0, shown.length - 1) }
    if (many && at.row >= 0) view.show(at.row)
    await tick()
    const place = () => scroller?.querySelector<HTMLElement>(`[data-cell="${at.row}:${at.column}"]`)
    if (place()) place()!.focus()
    else requestAnimationFrame(() => place()?.focus())
  }
  function keys(event: KeyboardEvent) {
    const target = event.target as HTMLElement
    const inside = !target.dataset.cell
    if (event.key === 'Escape') {
      if (inside) target.closest<HTMLElement>('[data-cell]')?.focus()
      corner = null
      return
    }
    if (inside) return
    const whole = event.ctrlKey || event.metaKey
    const page = Math.max(1, Math.floor((scroller?.clientHeight ?? 300) / 29) - 2)
    const column = shown[at.column]
    const moves: Record<string, [number, number]> = {
      ArrowUp: [at.row - 1, at.column],
      ArrowDown: [at.row + 1, at.column],
      ArrowLeft: [at.row, at.column - 1],
      ArrowRight: [at.row, at.column + 1],
      Home: [whole ? 0 : at.row, 0],
      End: [whole ? found.length - 1 : at.row, shown.length - 1],
      PageUp: [Math.max(0, at.row - page), at.column],
      PageDown: [at.row + page, at.column],
    }
    const move = moves[event.key]
    if (at.row < 0 && event.shiftKey && column && (event.key === 'ArrowLeft' || event.key === 'ArrowRight'))
      widen(column.id, event.key === 'ArrowLeft' ? -16 : 16)
    else if (move && !event.altKey) go(...move, event.shiftKey)
    else if (event.key === 'Enter' && at.row >= 0)
      target.querySelector<HTMLElement>('a, button, input, select')?.focus()
    else if ((event.key === 'Enter' || event.key === ' ') && column && !column.controls && at.row < 0) sort(column)
    else if (whole && event.key === 'a' && found.length) {
      at = { row: 0, column: 0 }
      corner = { row: found.length - 1, column: shown.length - 1 }
    } else if (whole && event.key === 'c' && !String(getSelection())) copy()
    else return
    event.preventDefault()
  }
  function press(event: MouseEvent, row: number, column: number) {
    if ((event.target as HTMLElement).closest('a, button, input, select, label')) return
    if (event.shiftKey) event.preventDefault()
    go(row, column, event.shiftKey)
  }

  let said = $state('')
  async function put(lines: ReturnType<Column<T>['value']>[][], what: string) {
    try {
      await navigator.clipboard.writeText(tabbed(lines))
      said = `copied ${what}`
    } catch {
      said = 'the browser does not let the console copy; download the table instead'
    }
    setTimeout(() => (said = ''), 4000)
  }
  const lines = (n: number) => (n === 1 ? '1 row' : `${n.toLocaleString('en')} rows`)
  const counted = $derived(
    found.length < rows.length
      ? `${found.length.toLocaleString('en')} of ${lines(rows.length)}`
      : rows.length < total
        ? `the first ${rows.length.toLocaleString('en')} of ${lines(total)}`
        : lines(rows.length),
  )
  function copy() {
    const end = corner ?? at
    if (at.row < 0) return copyAll()
    const part = found.slice(Math.min(at.row, end.row), Math.max(at.row, end.row) + 1)
    const those = shown.filter((c, i) => within(i, at.column, end.column) && !c.controls)
    put(
      part.map((row) => those.map((c) => c.value(row))),
      part.length * those.length === 1 ? 'the cell' : `${lines(part.length)} of ${those.length} columns`,
    )
  }
  const copyAll = () =>
    put([holding.map((c) => c.head), ...found.map((row) => holding.map((c) => c.value(row)))], lines(found.length))
  const download = () => save(`${name.replaceAll(/[^\w.-]+/g, '-').toLowerCase()}.csv`, csv(found, holding), 'text/csv')

  const item = 'menu-item text-sm'
  const menu = 'menu max-h-80 min-w-48 overflow-y-auto'
</script>

<div class="mb-2 flex flex-wrap items-center gap-3">
  {@render tools?.()}
  {#if rows.length > 8 || look.filter}
    <input
      class="field ml-auto max-w-48"
      placeholder="filter"
      aria-label="Filter {name.toLowerCase()}"
      value={look.filter}
      oninput={(e) => (look.filter = e.currentTarget.value.toLowerCase())}
    />
  {/if}
  {#each asked as [id, text] (id)}
    <span class="chip"
      >{columns.find((c) => c.id === id)?.head}: {text}<button
        type="button"
        aria-label="Stop filtering by {columns.find((c) => c.id === id)?.head}"
        onclick={() => (look.filters[id] = '')}>×</button
      ></span
    >
  {/each}
  <span class="text-sm text-muted {rows.length > 8 || look.filter ? '' : 'ml-auto'}" role="status"
    >{said || counted}</span
  >
  <DropdownMenu.Root>
    <DropdownMenu.Trigger class="btn py-0 text-sm" aria-label="Table of {name.toLowerCase()}"
      >Table ▾</DropdownMenu.Trigger
    >
    <DropdownMenu.Portal>
      <DropdownMenu.Content class={menu} align="end" sideOffset={4}>
        <DropdownMenu.Item class={item} onSelect={copyAll}>Copy {lines(found.length)}</DropdownMenu.Item>
        <DropdownMenu.Item class={item} onSelect={download}>Download as CSV</DropdownMenu.Item>
        <DropdownMenu.Separator class="my-1 border-t border-line" />
        {#each columns.filter((c) => !c.controls) as c (c.id)}
          <DropdownMenu.CheckboxItem
            class={item}
            closeOnSelect={false}
            checked={!look.hidden.includes(c.id)}
            disabled={holding.length === 1 && !look.hidden.includes(c.id)}
            onCheckedChange={(on) =>
              (look.hidden = on ? look.hidden.filter((id) => id !== c.id) : [...look.hidden, c.id])}
            >{c.head}{#if !look.hidden.includes(c.id)}<span aria-hidden="true">✓</span>{/if}</DropdownMenu.CheckboxItem
          >
        {/each}
        <DropdownMenu.Separator class="my-1 border-t border-line" />
        <DropdownMenu.Item class={item} onSelect={() => (look = plain())}>As it was at first</DropdownMenu.Item>
      </DropdownMenu.Content>
    </DropdownMenu.Portal>
  </DropdownMenu.Root>
</div>
<div class="panel overflow-auto {tall}" bind:this={scroller} data-testid={testid}>
  <!-- svelte-ignore a11y_no_noninteractive_element_to_interactive_role -->
  <table
    class="dense {fixed ? 'table-fixed' : ''}"
    style={fixed ? `width: max(100%, ${width}px)` : ''}
    role="grid"
    aria-label={name}
    aria-rowcount={found.length + 1}
    aria-multiselectable="true"
    onkeydown={keys}
  >
    {#if fixed}<colgroup
        >{#each shown as c (c.id)}<col style="width: {look.widths[c.id] ?? 120}px" />{/each}</colgroup
      >{/if}
    <thead bind:this={head}>
      <tr aria-rowindex={1}>
        {#each shown as c, j (c.id)}
          <th
            class="group {c.number ? 'text-right!' : ''} {c.controls || c.quiet ? 'w-0' : ''} outline-offset-[-2px]!"
            title={c.title}
            aria-sort={look.sort === c.id ? (look.down ? 'descending' : 'ascending') : undefined}
            tabindex={at.row < 0 && at.column === j ? 0 : -1}
            data-cell="-1:{j}"
            onfocus={() => (at = { row: -1, column: j })}
          >
            {#if c.controls}<span class="sr-only">{c.head}</span>
            {:else}
              <span class="inline-flex max-w-full items-center gap-1 {c.number ? 'flex-row-reverse' : ''}">
                <button
                  type="button"
                  tabindex="-1"
                  class="truncate {c.quiet ? 'sr-only' : ''}"
                  onclick={() => sort(c)}
                  aria-label="Sort by {c.head}">{c.head}</button
                >{#if look.sort === c.id}<span class="text-garnet" aria-hidden="true">{look.down ? '↓' : '↑'}</span
                  >{/if}
                {#if !c.quiet}
                  <DropdownMenu.Root>
                    <DropdownMenu.Trigger tabindex={-1} aria-label="More on {c.head}" class="more"
                      >▾</DropdownMenu.Trigger
                    >
                    <DropdownMenu.Portal>
                      <DropdownMenu.Content class={menu} align="start" sideOffset={4}>
                        <input
                          class="field mb-1 text-sm"
                          placeholder="only with …"
                          aria-label="Only where {c.head} has"
                          value={look.filters[c.id] ?? ''}
                          oninput={(e) => (look.filters[c.id] = e.currentTarget.value.toLowerCase())}
                          onkeydown={(e) => ['Escape', 'Tab', 'ArrowDown'].includes(e.key) || e.stopPropagation()}
                        />
                        <DropdownMenu.Item class={item} onSelect={() => ([look.sort, look.down] = [c.id, false])}
                          >Sort, least first <span aria-hidden="true">↑</span></DropdownMenu.Item
                        >
                        <DropdownMenu.Item class={item} onSelect={() => ([look.sort, look.down] = [c.id, true])}
                          >Sort, most first <span aria-hidden="true">↓</span></DropdownMenu.Item
                        >
                        <DropdownMenu.Item class={item} closeOnSelect={false} onSelect={() => widen(c.id, 32)}
                          >Wider</DropdownMenu.Item
                        >
                        <DropdownMenu.Item class={item} closeOnSelect={false} onSelect={() => widen(c.id, -32)}
                          >Narrower</DropdownMenu.Item
                        >
                        {#if holding.length > 1}<DropdownMenu.Item
                            class={item}
                            onSelect={() => (look.hidden = [...look.hidden, c.id])}>Hide</DropdownMenu.Item
                          >{/if}
                      </DropdownMenu.Content>
                    </DropdownMenu.Portal>
                  </DropdownMenu.Root>
                {/if}
              </span>
              {@render under?.(c)}
              <span
                class="absolute top-0 right-0 h-full w-1.5 cursor-col-resize hover:bg-line-strong"
                aria-hidden="true"
                onpointerdown={(e) => drag(e, c.id)}
                ondblclick={() => (look.widths = {})}
              ></span>
            {/if}
          </th>
        {/each}
      </tr>
    </thead>
    {#if many && view.before > 0}<tbody aria-hidden="true"
        ><tr><td class="border-0! p-0!" colspan={shown.length} style="height: {view.before}px"></td></tr></tbody
      >{/if}
    {#each drawn as i (key(found[i]!))}
      {@const row = found[i]!}
      <tbody data-index={i} use:view.measured>
        <tr aria-rowindex={i + 2}>
          {#each shown as c, j (c.id)}
            <td
              class="{c.number ? 'text-right' : ''} {fixed ? 'overflow-hidden break-words' : ''} {c.class ??
                ''} {line?.(row, c) ?? ''} outline-offset-[-2px]! {marked(i, j) ? 'bg-garnet-wash!' : ''}"
              tabindex={at.row === i && at.column === j ? 0 : -1}
              aria-selected={marked(i, j) || undefined}
              data-cell="{i}:{j}"
              onmousedown={(e) => press(e, i, j)}
              >{#if cell}{@render cell(row, c)}{:else if (c.value(row) ?? null) === null}<span
                  class="text-muted"
                  aria-label="NULL">∅</span
                >{:else}{c.value(row)}{/if}</td
            >
          {/each}
        </tr>
        {@render below?.(row)}
      </tbody>
    {:else}
      <tbody
        ><tr
          ><td colspan={shown.length} class="p-4 text-muted">{rows.length ? 'Nothing like that here.' : empty}</td></tr
        ></tbody
      >
    {/each}
    {#if many && view.after > 0}<tbody aria-hidden="true"
        ><tr><td class="border-0! p-0!" colspan={shown.length} style="height: {view.after}px"></td></tr></tbody
      >{/if}
  </table>
</div>
