<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { fetched } from '../lib/load.svelte'
  import { api, get, type Problem, type Schemas } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import BandGlyph from '../parts/BandGlyph.svelte'
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

  const most = 300
  let filter = $state('')
  const found = $derived((comparison?.items ?? []).filter((item) => item.object.includes(filter.toLowerCase())))
</script>

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
    {#if a && b}<button class="btn" onclick={() => place.go('/compare', { a: b, b: a })}>Swap</button>{/if}
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
      {#if comparison.items.length > 20}<input
          class="field mb-2 max-w-56"
          placeholder="filter"
          aria-label="Filter objects"
          bind:value={filter}
        />{/if}
      <div class="panel mb-5 overflow-hidden">
        <table class="dense">
          <thead>
            <tr><th>Object</th><th colspan="2">Only {comparison.a}</th><th colspan="2">Only {comparison.b}</th></tr>
          </thead>
          <tbody>
            {#each found.slice(0, most) as item (item.object)}
              <tr>
                <td class="mono"
                  ><a class="hover:underline" href={place.href('/tables/' + item.object)}>{item.object}</a></td
                >
                <td class="w-0"><BandGlyph bands={item.a.bands} /></td>
                <td class="w-[32%] {item.only_a.length ? 'bg-feldspar-wash' : ''}">{item.only_a.join('; ')}</td>
                <td class="w-0"><BandGlyph bands={item.b.bands} /></td>
                <td class="w-[32%] {item.only_b.length ? 'bg-epidote-wash' : ''}">{item.only_b.join('; ')}</td>
              </tr>
            {/each}
          </tbody>
        </table>
        {#if found.length > most}<p class="p-2 text-sm text-muted">
            The first {most} of {found.length}; filter to see the others.
          </p>{/if}
      </div>
      <h2 class="mb-2">The grants that make the difference</h2>
      <div class="panel overflow-hidden"><GrantTable grants={comparison.grants} /></div>
    {/if}
  {:else}
    <p class="max-w-prose text-muted">
      Choose two users, services, groups or roles: what one can do that the other cannot, table by table, and the grants
      that make the difference.
    </p>
  {/if}
</div>
