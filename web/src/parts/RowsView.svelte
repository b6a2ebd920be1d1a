<script lang="ts">
  import { fetched } from '../lib/load.svelte'
  import { scrollable } from '../lib/scrollable'
  import { api, get, type Preview, type Problem } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import { isNumber } from '../lib/types'
  import BandGlyph from './BandGlyph.svelte'
  import Trouble from './Trouble.svelte'

  // The rows of a table from one standpoint, or from two side by side with what
  // differs marked.
  let { table }: { table: string } = $props()
  let preview = $state<Preview | null>(null)
  let problem = $state<Problem | null>(null)
  let onlyDifferent = $state(false)
  let shown = $state(false)
  // A policy that is not live, to be shown as if it were beside what is.
  const draft = $derived(place.query.get('draft') ?? '')

  fetched(
    (signal) => {
      const standpoints = [place.at]
      if (place.beside) standpoints.push({ as: place.beside, purpose: place.at.purpose })
      const drafts = draft ? [draft] : undefined
      return get(api.POST('/api/v1/previews', { signal, body: { table, standpoints, limit: 60, drafts, plan: true } }))
    },
    (p) => {
      preview = p
      problem = null
    },
    (p) => (problem = p),
  )

  const rows = $derived((preview?.rows ?? []).filter((r) => !onlyDifferent || r.differs.some(Boolean)))
  const two = $derived((preview?.sides.length ?? 0) > 1)

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
  <div class="mb-2 flex flex-wrap items-center gap-x-6 gap-y-1">
    {#each preview.sides as side, i (i)}
      <span class="flex items-center gap-2">
        {#if two}<b class="chip">{i === 0 ? 'A' : 'B'}</b>{/if}
        <BandGlyph bands={side.bands} /><span class="mono">{side.standpoint}</span>
        <span class="text-muted"
          >{side.problem ? '' : `${side.count.toLocaleString('en')} ${side.count === 1 ? 'row' : 'rows'}`}</span
        >
      </span>
    {/each}
    {#if preview.sides.some((s) => s.plan)}
      <label class="flex items-center gap-1.5"><input type="checkbox" bind:checked={shown} /> what ran</label>
    {/if}
    {#if two}
      <label class="flex items-center gap-1.5"
        ><input type="checkbox" bind:checked={onlyDifferent} /> only what differs</label
      >
      <span class="text-sm text-muted"
        >{preview.matched ? `matched by ${preview.key}` : 'matched by place: no key is in clear on both sides'}</span
      >
    {/if}
  </div>
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
  <div class="panel max-h-[calc(100vh-19rem)] overflow-auto" data-testid="rows" use:scrollable={'Rows'}>
    <table class="dense">
      <thead>
        <tr>
          {#if two}<th class="w-0"><span class="sr-only">Side</span></th>{/if}
          {#each preview.columns as c (c.name)}
            <th class={isNumber(c.type) ? 'text-right!' : ''}>
              {c.name}
              {#each preview.sides as side, i (i)}
                {#if !side.problem && treatment(i, c.name)}
                  <div class="font-normal text-feldspar" title={exactly(i, c.name)}>
                    {two ? (i === 0 ? 'A ' : 'B ') : ''}◐ {treatment(i, c.name)}
                  </div>
                {/if}
              {/each}
            </th>
          {/each}
        </tr>
      </thead>
      <tbody>
        {#each rows as row, r (r)}
          {#each row.sides as side, i (i)}
            {#if i === 0 || row.differs.some(Boolean)}
              <tr>
                {#if two}<td class="text-xs text-muted">{row.differs.some(Boolean) ? (i === 0 ? 'A' : 'B') : '='}</td
                  >{/if}
                {#each preview.columns as c, j (c.name)}
                  <td
                    class="{isNumber(c.type) ? 'text-right' : ''} max-w-48 truncate whitespace-nowrap {two &&
                    row.differs[j]
                      ? i === 0
                        ? 'bg-feldspar-wash'
                        : 'bg-epidote-wash font-medium'
                      : ''}"
                    title={side ? String(side[j] ?? 'NULL') : ''}
                  >
                    {#if !side}<span class="text-muted">{j === 0 ? 'not there' : '–'}</span>
                    {:else if side[j] === null || side[j] === undefined}<span class="text-muted" aria-label="NULL"
                        >∅</span
                      >
                    {:else}{side[j]}{/if}
                  </td>
                {/each}
              </tr>
            {/if}
          {/each}
        {:else}
          <tr
            ><td colspan={preview.columns.length + 1} class="p-4 text-muted">
              {onlyDifferent ? 'Nothing differs in these rows.' : 'No rows from here.'}
            </td></tr
          >
        {/each}
      </tbody>
    </table>
  </div>
{:else}
  <div class="panel h-64 animate-pulse bg-raised" aria-busy="true"></div>
{/if}
