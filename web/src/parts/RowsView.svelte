<script lang="ts">
  import { fetched } from '../lib/load.svelte'
  import type { Column, Value } from '../lib/grid'
  import { scrollable } from '../lib/scrollable'
  import { api, get, type Preview, type Problem, type Schemas } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import { isNumber } from '../lib/types'
  import BandGlyph from './BandGlyph.svelte'
  import Grid from './Grid.svelte'
  import Trouble from './Trouble.svelte'

  // The rows of a table from one standpoint, or from two side by side with what
  // differs marked.
  let { table }: { table: string } = $props()
  let preview = $state.raw<Preview | null>(null)
  let problem = $state<Problem | null>(null)
  let onlyDifferent = $state(false)
  let shown = $state(false)
  // A policy that is not live, to be shown as if it were: ?try=NAME.
  const tried = $derived(place.query.get('try') ?? '')

  fetched(
    (signal) => {
      const standpoints: Schemas['WirePreviewPoint'][] = [{ ...place.at, ...place.moment }]
      if (place.moment.draft && !place.beside) standpoints.push({ ...place.at }) // as it is now
      if (place.beside) standpoints.push({ as: place.beside, purpose: place.at.purpose })
      const drafts = tried ? [tried] : undefined
      return get(api.POST('/api/v1/previews', { signal, body: { table, standpoints, limit: 60, drafts, plan: true } }))
    },
    (p) => {
      preview = p
      problem = null
    },
    (p) => (problem = p),
  )

  const two = $derived((preview?.sides.length ?? 0) > 1)
  // A row is one line, or two where the sides differ. Both sort by what the first side has.
  type Line = { n: string; side: number; values: unknown[] | null; first: unknown[] | null; differs: boolean[] }
  const lines = $derived(
    (preview?.rows ?? []).flatMap((row, r) =>
      row.sides.flatMap((values, side): Line[] => {
        const same = !row.differs.some(Boolean)
        if (same && (side > 0 || onlyDifferent)) return []
        const first = row.sides.find((s) => s) ?? null
        return [{ n: `${r}.${side}`, side, values: values ?? null, first: first ?? null, differs: row.differs }]
      }),
    ),
  )
  const differs = (l: Line) => l.differs.some(Boolean)
  const columns = $derived<Column<Line>[]>([
    ...(two ? [{ id: 'side', head: 'Side', quiet: true, value: (l: Line) => (differs(l) ? 'AB'[l.side] : '=') }] : []),
    ...(preview?.columns ?? []).map((c, j) => ({
      id: c.name,
      head: c.name,
      number: isNumber(c.type),
      class: 'max-w-48 truncate whitespace-nowrap',
      value: (l: Line) => (l.values ? l.values[j] : l.first?.[j]) as Value,
    })),
  ])
  const at = (c: Column<Line>) => preview?.columns.findIndex((x) => x.name === c.id) ?? -1
  const tint = (l: Line, c: Column<Line>) =>
    two && l.differs[at(c)] ? (l.side === 0 ? 'bg-feldspar-wash' : 'bg-epidote-wash font-medium') : ''

  function treatment(side: number, name: string): string {
    const column = preview?.sides[side]?.columns.find((c) => c.name === name)
    if (!column || !column.readable) return 'not granted'
    return column.treatment === 'clear' ? '' : column.says
  }
  const exactly = (side: number, name: string) =>
    preview?.sides[side]?.columns.find((c) => c.name === name)?.treatment ?? ''
</script>

{#if problem}
  <Trouble {problem} />
{:else if preview}
  {#each preview.sides as side, i (i)}
    {#if side.problem}
      <div class="mb-2">
        <Trouble
          problem={{
            type: '',
            title: '',
            status: 403,
            code: 'refused',
            detail: `${side.standpoint}: ${side.problem}`,
            missing: side.missing,
            reference: side.reference,
          }}
        />
      </div>
    {/if}
  {/each}
  {#if shown}
    <div class="mb-2 grid gap-3" style="grid-template-columns: repeat({preview.sides.length}, minmax(0, 1fr))">
      {#each preview.sides as side, i (i)}
        {#if side.plan}<section class="panel max-h-60 overflow-auto p-2" aria-label="What ran" use:scrollable={'Rows'}>
            {#each side.plan.policies as p (p)}<p class="mb-1 text-sm">{p}.</p>{/each}
            <pre class="mono text-xs!">{side.plan.sql}</pre>
            {#each side.plan.args as a, n (n)}<span class="mono block text-xs! text-muted">{a}</span>{/each}
          </section>{/if}
      {/each}
    </div>
  {/if}
  {#snippet tools()}
    {#each preview?.sides ?? [] as side, i (i)}
      <span class="flex items-center gap-2">
        {#if two}<b class="chip">{i === 0 ? 'A' : 'B'}</b>{/if}
        <BandGlyph bands={side.bands} /><span class="mono">{side.standpoint}</span>
        <span class="text-muted"
          >{side.problem ? '' : `${side.count.toLocaleString('en')} ${side.count === 1 ? 'row' : 'rows'}`}</span
        >
      </span>
    {/each}
    {#if preview?.sides.some((s) => s.plan)}
      <label class="flex items-center gap-1.5"><input type="checkbox" bind:checked={shown} /> what ran</label>
    {/if}
    {#if two}
      <label class="flex items-center gap-1.5"
        ><input type="checkbox" bind:checked={onlyDifferent} /> only what differs</label
      >
      <span class="text-sm text-muted"
        >{preview?.matched ? `matched by ${preview.key}` : 'matched by place: no key is in clear on both sides'}</span
      >
    {/if}
  {/snippet}
  {#snippet treated(c: Column<Line>)}
    {#each preview?.sides ?? [] as side, i (i)}
      {#if !side.problem && c.id !== 'side' && treatment(i, c.id)}
        <div class="font-normal text-feldspar" title={exactly(i, c.id)}>
          {two ? (i === 0 ? 'A ' : 'B ') : ''}◐ {treatment(i, c.id)}
        </div>
      {/if}
    {/each}
  {/snippet}
  {#snippet value(l: Line, c: Column<Line>)}
    {@const v = l.values?.[at(c)]}
    {#if c.id === 'side'}<span class="text-xs text-muted">{c.value(l)}</span>
    {:else if !l.values}<span class="text-muted">{at(c) === 0 ? 'not there' : '–'}</span>
    {:else if v === null || v === undefined}<span class="text-muted" aria-label="NULL">∅</span>
    {:else}<span title={String(v)}>{v}</span>{/if}
  {/snippet}
  <Grid
    name="Rows of {table}"
    testid="rows"
    tall="max-h-[calc(100vh-21rem)] min-h-40"
    {columns}
    rows={lines}
    key={(l) => l.n}
    cell={value}
    {tools}
    total={two ? lines.length : Math.max(lines.length, preview.sides[0]?.count ?? 0)}
    under={treated}
    line={tint}
    empty={onlyDifferent ? 'Nothing differs in these rows.' : 'No rows from here.'}
  />
{:else}
  <div class="panel h-64 animate-pulse bg-raised" aria-busy="true"></div>
{/if}
