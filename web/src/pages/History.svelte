<script lang="ts">
  import { api, get, says, type Problem, type Schemas } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import { scrollable } from '../lib/scrollable'
  import Effects from '../parts/Effects.svelte'
  import HistoryList from '../parts/HistoryList.svelte'
  import Trouble from '../parts/Trouble.svelte'

  // Revisions, and what differs between two moments.
  const of = $derived(place.query.get('of') ?? '')
  let about = $state('')
  $effect(() => {
    about = of
  })
  let from = $state('')
  let to = $state('')
  let between = $state<Schemas['WireBetween'] | null>(null)
  let problem = $state<Problem | null>(null)
  async function compare(event: SubmitEvent) {
    event.preventDefault()
    try {
      const query = { from, with: to || undefined, of: of || undefined }
      between = await get(api.GET('/api/v1/moments', { params: { query } }))
      problem = null
    } catch (error) {
      problem = says(error)
    }
  }
</script>

<div class="h-full overflow-y-auto p-5" use:scrollable={'History'}>
  <div class="mb-3 flex flex-wrap items-center gap-3">
    <h1 class="mr-2">History</h1>
    <input
      class="field mono w-64"
      aria-label="About"
      placeholder="about an object, subject or policy"
      bind:value={about}
      onchange={() => place.go('/history', { of: about.trim() })}
    />
    {#if of}<button type="button" class="btn" onclick={() => place.go('/history', { of: '' })}>All</button>{/if}
    <form class="ml-auto flex items-center gap-2" onsubmit={compare}>
      <span class="text-muted">Compare</span>
      <input class="field mono w-32" aria-label="From" placeholder="118 or a day" bind:value={from} required />
      <span class="text-muted">with</span>
      <input class="field mono w-32" aria-label="With" placeholder="now" bind:value={to} />
      <button type="submit" class="btn">Compare</button>
    </form>
  </div>
  {#if problem}<div class="mb-3"><Trouble {problem} /></div>{/if}
  {#if between}
    <section class="panel mb-4 p-3" aria-label="Between two moments">
      <div class="flex items-start justify-between">
        <h2 class="mb-1">From revision {between.at} to {between.with}</h2>
        <button type="button" class="btn px-2 py-0" aria-label="Close" onclick={() => (between = null)}>×</button>
      </div>
      <Effects
        changed={{
          revision: 0,
          done: false,
          revised: false,
          says: [],
          notes: [],
          effects: between.effects,
          more: between.bounded,
        }}
        none="Nobody gained or lost anything."
      />
      {#if between.differs.length}
        <details class="mt-2 text-sm">
          <summary class="cursor-pointer text-muted"
            >What was decided: {between.differs.length + (between.more ?? 0)}</summary
          >
          <ul class="mt-1">
            {#each between.differs as d, i (i)}<li><span class="text-muted">{d.how}</span> {d.name}</li>{/each}
          </ul>
        </details>
      {/if}
    </section>
  {/if}
  <HistoryList {of} />
</div>
