<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { fetched } from '../lib/load.svelte'
  import { api, get, type Problem, type Schemas } from '../lib/api'
  import type { Column } from '../lib/grid'
  import { place } from '../lib/place.svelte'
  import BandGlyph from '../parts/BandGlyph.svelte'
  import Grid from '../parts/Grid.svelte'
  import GrantTable from '../parts/GrantTable.svelte'
  import SubjectPicker from '../parts/SubjectPicker.svelte'
  import Trouble from '../parts/Trouble.svelte'

  // Two subjects: what one has that the other lacks, and by which grants.
  let comparison = $state<Schemas['WireComparison'] | null>(null)
  let problem = $state<Problem | null>(null)
  const a = $derived(place.query.get('a') ?? '')
  const b = $derived(place.query.get('b') ?? '')

  fetched(
    (signal) => {
      comparison = null
      if (!a || !b) return null
      return get(api.GET('/api/v1/comparison', { signal, params: { query: { a, b } } }))
    },
    (c) => {
      comparison = c
      problem = null
    },
    (p) => (problem = p),
  )

  type Item = Schemas['WireComparison']['items'][number]
  const columns = $derived<Column<Item>[]>([
    { id: 'object', head: 'Object', class: 'mono', value: (i) => i.object },
    { id: 'bands a', head: `Bands of ${comparison?.a}`, quiet: true, value: (i) => i.a.bands.says },
    { id: 'a', head: `Only ${comparison?.a}`, value: (i) => i.only_a.join('; ') },
    { id: 'bands b', head: `Bands of ${comparison?.b}`, quiet: true, value: (i) => i.b.bands.says },
    { id: 'b', head: `Only ${comparison?.b}`, value: (i) => i.only_b.join('; ') },
  ])
  const tint = (i: Item, c: Column<Item>) =>
    c.id === 'a' && i.only_a.length ? 'bg-feldspar-wash' : c.id === 'b' && i.only_b.length ? 'bg-epidote-wash' : ''
</script>

{#snippet cell(i: Item, c: Column<Item>)}
  {#if c.id === 'object'}<a class="hover:underline" href={place.href('/tables/' + i.object)}>{i.object}</a>
  {:else if c.id === 'bands a'}<BandGlyph bands={i.a.bands} />
  {:else if c.id === 'bands b'}<BandGlyph bands={i.b.bands} />
  {:else}{c.value(i)}{/if}
{/snippet}

<div class="h-full overflow-y-auto p-5" use:scrollable={'Compare'}>
  <div class="mb-4 flex flex-wrap items-center gap-3">
    <h1 class="mr-2">Compare</h1>
    <div class="w-56">
      {#key a}<SubjectPicker
          label="First"
          value={a}
          placeholder="a subject"
          onpick={(ref) => place.go('/compare', { a: ref, b })}
        />{/key}
    </div>
    <span class="text-muted">with</span>
    <div class="w-56">
      {#key b}<SubjectPicker
          label="Second"
          value={b}
          placeholder="another"
          onpick={(ref) => place.go('/compare', { a, b: ref })}
        />{/key}
    </div>
    {#if a && b}<button type="button" class="btn" onclick={() => place.go('/compare', { a: b, b: a })}>Swap</button
      >{/if}
  </div>
  {#if problem}
    <Trouble {problem} />
  {:else if comparison}
    <p class="mb-2 text-muted">
      {comparison.items.length
        ? `They differ on ${comparison.items.length} objects, and are alike on ${comparison.alike}.`
        : `They can do the same, on ${comparison.alike} objects.`}
    </p>
    {#if comparison.items.length}
      <div class="mb-5">
        <Grid name="What differs" {columns} rows={comparison.items} key={(i) => i.object} {cell} line={tint} />
      </div>
      <h2 class="mb-2">
        {comparison.grants.length ? 'The grants that make the difference' : 'No grant makes the difference'}
      </h2>
      {#if !comparison.grants.length}<p class="mb-2 text-muted">
          The policies do, by the attributes, groups and roles of the two.
        </p>{/if}
      {#if comparison.grants.length}<GrantTable grants={comparison.grants} />{/if}
    {/if}
  {:else}
    <p class="max-w-prose text-muted">
      Choose two users, services, groups or roles: what one can do that the other cannot, table by table, and the grants
      that make the difference.
    </p>
  {/if}
</div>
