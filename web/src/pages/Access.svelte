<script lang="ts">
  import { untrack } from 'svelte'
  import { api, get, says, type Access, type Problem, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { fetched } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
  import { windowed } from '../lib/windowed.svelte'
  import GlyphSprite from '../parts/GlyphSprite.svelte'
  import GrantDialog from '../parts/GrantDialog.svelte'
  import Modal from '../parts/Modal.svelte'
  import Trouble from '../parts/Trouble.svelte'

  // Who has what on what, at a glance: subjects down, objects across. The whole is a texture before it is
  // read cell by cell. What is asked stands in the address.
  type Matrix = Schemas['WireAccessMatrix']
  type Row = Matrix['rows'][number]
  const ask = (name: string) => place.query.get(name) ?? ''
  const inside = $derived(ask('in'))
  const query = $derived({
    in: inside || undefined,
    level: inside ? undefined : ('schemas' as const),
    kind: (ask('kind') || undefined) as 'user' | 'service' | 'group' | 'role' | undefined,
    within: ask('within') || undefined,
    text: ask('text') || undefined,
    label: ask('label') || undefined,
    writes: ask('only') === 'writes' || undefined,
    has: ask('only') === 'has' || undefined,
    direct: ask('only') === 'direct' || undefined,
    differs: ask('only') === 'differs' || undefined,
    unused: ask('only') === 'unused' ? 90 : undefined,
    beside: place.beside || undefined,
    beside_draft: ask('against').startsWith('draft:') ? ask('against').slice(6) : undefined,
    beside_at: ask('against') && !ask('against').startsWith('draft:') ? ask('against') : undefined,
    from: Number(ask('from')) || undefined,
    columns: 40,
  })
  let matrix = $state.raw<Matrix | null>(null)
  let rows = $state.raw<Row[]>([])
  let problem = $state<Problem | null>(null)
  let more = $state(false)
  fetched(
    (signal) => get(api.GET('/api/v1/access-matrix', { signal, params: { query } })),
    (m) => {
      matrix = m
      rows = m.rows
      problem = null
    },
    (p) => (problem = p),
  )
  let labels = $state<string[]>([])
  let opened = $state<string[]>([])
  fetched(
    (signal) => get(api.GET('/api/v1/labels', { signal })),
    (list) => (labels = list.items.map((l) => l.path)),
    () => {},
  )
  fetched(
    (signal) => get(api.GET('/api/v1/drafts', { signal })),
    (list) => (opened = list.items.filter((d) => d.status === 'open').map((d) => d.name)),
    () => {},
  )

  async function next() {
    if (more || !matrix?.next) return
    more = true
    const asked = matrix
    try {
      const part = await get(api.GET('/api/v1/access-matrix', { params: { query: { ...query, after: asked.next } } }))
      if (matrix === asked) {
        rows = [...rows, ...part.rows]
        matrix = { ...matrix, next: part.next }
      }
    } catch (error) {
      problem = says(error)
    }
    more = false
  }

  let scroller = $state<HTMLElement | null>(null)
  const view = windowed(
    () => rows.length,
    () => scroller,
    27,
  )
  $effect(() => {
    const last = view.items.at(-1)?.index ?? 0
    if (last >= rows.length - 15) untrack(() => void next())
  })

  const go = (more: Record<string, string>) =>
    place.go('/access', { ...Object.fromEntries(place.query), from: '', cell: '', ...more })
  const up = $derived(inside.includes('.') ? inside.slice(0, inside.lastIndexOf('.')) : '')

  // One cell, with the ways to what is held there.
  let cell = $state<{ row: Row; at: number } | null>(null)
  let held = $state.raw<Access[] | null>(null)
  let granting = $state(false)
  let showing = $state(false)
  const isOpen = (asked: { row: Row; at: number }) => cell?.row.subject === asked.row.subject && cell?.at === asked.at
  function look(row: Row, at: number) {
    const asked = { row, at }
    cell = asked
    held = null
    showing = true
    const object = matrix!.columns[at]!.path
    get(api.GET('/api/v1/access', { params: { query: { of: row.subject, below: object, paths: true } } }))
      .then((list) => {
        if (isOpen(asked)) held = list.items.slice(0, 40)
      })
      .catch((error) => {
        if (isOpen(asked)) changes.failed(error)
      })
  }
  // The arrow keys move from cell to cell.
  function move(event: KeyboardEvent, i: number, j: number) {
    const step = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] }[event.key]
    if (!step) return
    event.preventDefault()
    const [row, column] = [i + step[0]!, j + step[1]!]
    if (!rows[row] || !matrix?.columns[column]) return
    view.show(row)
    requestAnimationFrame(() =>
      scroller?.querySelector<HTMLElement>(`[data-cell="${row}.${column}"]`)?.focus({ preventScroll: false }),
    )
  }
  const words = ['none', 'in part', 'full']
  const title = (subject: string, object: string, code: string, other?: string) =>
    `${subject} on ${object}: door ${words[+code[0]!]}, verbs ${words[+code[1]!]}, rows ${words[+code[2]!]}, columns ${words[+code[3]!]}` +
    (other ? `; beside it ${[...other].map((d) => words[+d]).join(', ')}` : '')
  const kinds: [string, string][] = [
    ['', 'Users'],
    ['service', 'Services'],
    ['group', 'Groups'],
    ['role', 'Roles'],
  ]
  const onlys: [string, string][] = [
    ['', 'All'],
    ['has', 'With anything here'],
    ['writes', 'Who can write'],
    ['direct', 'With a grant of their own'],
    ['unused', 'Used nothing for 90 days'],
    ['differs', 'Rows that differ'],
  ]
</script>

<GlyphSprite />
<div class="flex h-full flex-col gap-3 p-5">
  <div class="flex flex-wrap items-center gap-2">
    <h1 class="mr-2">Access</h1>
    <select
      class="field w-28"
      aria-label="Subjects"
      value={ask('kind')}
      onchange={(e) => go({ kind: e.currentTarget.value })}
    >
      {#each kinds as [value, name] (value)}<option {value}>{name}</option>{/each}
    </select>
    <select
      class="field w-48"
      aria-label="Only"
      value={ask('only')}
      onchange={(e) => go({ only: e.currentTarget.value })}
    >
      {#each onlys as [value, name] (value)}<option {value}>{name}</option>{/each}
    </select>
    <select
      class="field w-44"
      aria-label="In clear"
      value={ask('label')}
      onchange={(e) => go({ label: e.currentTarget.value })}
    >
      <option value="">Any label</option>
      {#each labels as l (l)}<option value={l}>{l} in clear</option>{/each}
    </select>
    <select
      class="field w-48"
      aria-label="Compare with"
      value={ask('against')}
      onchange={(e) => go({ against: e.currentTarget.value, only: e.currentTarget.value ? 'differs' : '' })}
    >
      <option value="">Compare with nothing</option>
      {#each opened as d (d)}<option value={'draft:' + d}>Draft {d}</option>{/each}
      {#if ask('against') && !ask('against').startsWith('draft:')}<option value={ask('against')}
          >{ask('against')}</option
        >{/if}
    </select>
    <input
      class="field w-44"
      placeholder="Name or title"
      aria-label="Name or title"
      value={ask('text')}
      onchange={(e) => go({ text: e.currentTarget.value })}
    />
    {#if ask('within')}<button type="button" class="btn" onclick={() => go({ within: '' })}
        >In <span class="mono">{ask('within')}</span> ×</button
      >{/if}
  </div>
  <p class="text-sm text-muted">
    {#if inside}
      <button type="button" class="underline" onclick={() => go({ in: up })}>{up || 'all schemas'}</button> ›
      <a class="mono underline" href={place.href('/tables/' + inside)}>{inside}</a> ·
    {/if}
    {rows.length}{matrix?.next ? ' of more' : ''} of {matrix?.subjects ?? 0}
    {#if matrix && (matrix.before || matrix.behind)}
      · columns {matrix.before + 1} to {matrix.before + matrix.columns.length} of
      {matrix.before + matrix.columns.length + matrix.behind}
      <button
        type="button"
        class="btn py-0 text-sm"
        disabled={!matrix.before}
        onclick={() => go({ from: String(Math.max(0, matrix!.before - 40)) })}>‹</button
      >
      <button
        type="button"
        class="btn py-0 text-sm"
        disabled={!matrix.behind}
        onclick={() => go({ from: String(matrix!.before + 40) })}>›</button
      >
    {/if}
    · Each cell has four bands, from the top: door, verbs, rows, columns; full, in part, or not.
    {#if matrix?.beside}<span class="lit px-1">lit</span> is what differs {matrix.beside}.{/if}
  </p>
  {#if problem}<Trouble {problem} />{/if}
  <div class="panel min-h-0 flex-1 overflow-auto" bind:this={scroller} role="region" aria-label="The matrix">
    <table class="border-separate border-spacing-0">
      <thead>
        <tr>
          <th class="corner" scope="col">Subject</th>
          {#each matrix?.columns ?? [] as c (c.path)}
            <th class="across" scope="col" title="{c.path}, {c.kind}{c.below ? `, ${c.below} tables` : ''}">
              {#if c.kind !== 'column' && c.kind !== 'view'}<button
                  type="button"
                  class="mono hover:underline"
                  onclick={() => go({ in: c.path })}>{c.name}</button
                >{:else}<span class="mono">{c.name}</span>{/if}
            </th>
          {/each}
          <td class="w-full"></td>
        </tr>
      </thead>
      <tbody>
        {#if view.before}<tr style="height: {view.before}px"></tr>{/if}
        {#each view.items as item (rows[item.index]!.subject)}
          {@const row = rows[item.index]!}
          <tr>
            <th class="who" scope="row" title={row.title}>
              <a
                class="mono hover:underline"
                href={place.href((row.kind === 'role' ? '/roles/' : '/subjects/') + row.subject)}>{row.subject}</a
              >
              {#if row.members}<button
                  type="button"
                  class="text-xs text-muted hover:underline"
                  title="Who is in it"
                  onclick={() => go({ within: row.subject, kind: '' })}>{row.members} ▸</button
                >{/if}
            </th>
            {#each row.cells as code, j (j)}
              {@const lit = row.lit?.includes(j)}
              <td class:lit class:dim={code === '0000'}>
                <button
                  type="button"
                  data-cell="{item.index}.{j}"
                  tabindex={item.index === 0 && j === 0 ? 0 : -1}
                  aria-label={title(row.subject, matrix!.columns[j]!.path, code, lit ? row.other?.[j] : '')}
                  title={title(row.subject, matrix!.columns[j]!.path, code, lit ? row.other?.[j] : '')}
                  onclick={() => look(row, j)}
                  onkeydown={(e) => move(e, item.index, j)}
                >
                  <svg width="16" height="16" aria-hidden="true"><use href="#band{code}" /></svg>
                  {#if lit && row.other}→ <svg width="16" height="16" aria-hidden="true"
                      ><use href="#band{row.other[j]}" /></svg
                    >{/if}
                </button>
              </td>
            {/each}
            <td></td>
          </tr>
        {/each}
        {#if view.after}<tr style="height: {view.after}px"></tr>{/if}
      </tbody>
    </table>
    {#if matrix && !rows.length}<p class="p-4 text-muted">
        No subject is like that. <button
          type="button"
          class="underline"
          onclick={() => go({ only: '', label: '', text: '', within: '' })}>Show all</button
        >
      </p>{/if}
  </div>
</div>

{#if cell && showing}
  {@const object = matrix!.columns[cell.at]!.path}
  <Modal bind:open={showing} title="{cell.row.subject} on {object}" wide>
    {#if !held}<p class="text-muted">Loading …</p>
    {:else if !held.length}<p class="text-muted">Nothing is held there.</p>
    {:else}
      <ul class="flex max-h-[50vh] flex-col gap-2 overflow-y-auto">
        {#each held as a (a.object)}
          <li class="border-b border-line pb-2">
            <p>
              <a class="mono font-semibold hover:underline" href={place.href('/tables/' + a.object)}>{a.object}</a>
              {#each a.privileges as p (p)}<span class="chip ml-1">{p}</span>{/each}
            </p>
            {#if a.rows || a.columns}<p class="text-sm text-muted">
                {[a.rows, a.columns].filter(Boolean).join('; ')}
              </p>{/if}
            {#each a.paths ?? [] as path, n (n)}<p class="mono text-xs">{path.says}</p>{/each}
          </li>
        {/each}
      </ul>
    {/if}
    <div class="mt-3 flex justify-end gap-2">
      <a class="btn" href={place.href((cell.row.kind === 'role' ? '/roles/' : '/subjects/') + cell.row.subject)}
        >The page of {cell.row.subject}</a
      >
      {#if signed.session?.administrator}<button type="button" class="btn btn-main" onclick={() => (granting = true)}
          >Grant something here …</button
        >{/if}
    </div>
  </Modal>
  {#if granting}<GrantDialog
      bind:open={granting}
      objects={[object]}
      kind={matrix!.columns[cell.at]!.kind}
      to={[cell.row.subject]}
    />{/if}
{/if}

<style>
  th,
  td {
    border-bottom: 1px solid var(--line);
    padding: 0 0.25rem;
    height: 27px;
  }
  thead th,
  thead td {
    position: sticky;
    top: 0;
    z-index: 2;
    background: var(--raised);
  }
  .corner,
  .who {
    position: sticky;
    left: 0;
    z-index: 1;
    background: var(--raised);
    text-align: left;
    font-weight: 400;
    white-space: nowrap;
    padding: 0 0.75rem;
    border-right: 1px solid var(--line);
  }
  .corner {
    z-index: 3;
    font-weight: 600;
    font-size: 0.8rem;
  }
  .across {
    font-size: 0.75rem;
    font-weight: 500;
    height: 10rem;
    vertical-align: bottom;
    padding-bottom: 0.4rem;
  }
  .across > :global(*) {
    writing-mode: vertical-rl;
    transform: rotate(180deg);
    max-height: 9.5rem;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  td button {
    display: flex;
    align-items: center;
    gap: 0.15rem;
    justify-content: center;
    width: 100%;
    min-width: 1.5rem;
    height: 100%;
  }
  td button:focus-visible {
    outline: 2px solid var(--garnet);
  }
  .dim svg {
    opacity: 0.4;
  }
  .lit {
    background: var(--feldspar-wash);
    outline: 1px solid var(--feldspar);
    outline-offset: -1px;
  }
</style>
