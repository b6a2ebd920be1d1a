<script lang="ts">
  import { api, get, type Problem, type Schemas } from '../lib/api'
  import { fetched } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import { scrollable } from '../lib/scrollable'
  import DraftView from '../parts/DraftView.svelte'
  import OpenDraft from '../parts/OpenDraft.svelte'
  import Trouble from '../parts/Trouble.svelte'

  // What is not made yet: the drafts, and one of them with what it would do.
  let list = $state<Schemas['WireDraft'][] | null>(null)
  let problem = $state<Problem | null>(null)
  let opening = $state(false)
  fetched(
    (signal) => get(api.GET('/api/v1/drafts', { signal })),
    (page) => {
      list = page.items
      problem = null
    },
    (p) => (problem = p),
  )
  const name = $derived(decodeURIComponent(place.path.split('/')[2] ?? ''))
  const openOnes = $derived((list ?? []).filter((d) => d.status === 'open'))
  const closed = $derived((list ?? []).filter((d) => d.status !== 'open'))
</script>

<div class="grid h-full grid-cols-[17rem_minmax(0,1fr)] max-[900px]:grid-cols-1">
  <aside class="overflow-y-auto border-r border-line p-3" aria-label="Drafts" use:scrollable={'Drafts'}>
    <div class="mb-2 flex items-center justify-between">
      <h1 class="text-lg!">Drafts</h1>
      <button type="button" class="btn py-0.5" onclick={() => (opening = true)}>Open …</button>
    </div>
    {#if problem}<Trouble {problem} />{/if}
    <ul>
      {#each openOnes as d (d.name)}
        <li>
          <a
            href={place.href('/drafts/' + d.name)}
            aria-current={d.name === name ? 'page' : undefined}
            class="block rounded px-2 py-1 {d.name === name ? 'bg-raised font-semibold' : 'hover:bg-raised'}"
          >
            <span class="mono">{d.name}</span>
            <span class="block text-xs font-normal text-muted"
              >{d.steps.length}
              {d.steps.length === 1 ? 'change' : 'changes'}, {d.by}{d.misfits
                ? ` · ⊘ ${d.misfits} no longer fit`
                : ''}</span
            >
          </a>
        </li>
      {:else}<li class="px-2 text-muted">{list ? 'None is open.' : 'Loading …'}</li>{/each}
    </ul>
    {#if closed.length}
      <h2 class="mt-4 mb-1 text-sm text-muted">Closed</h2>
      <ul class="text-sm">
        {#each closed as d, i (i)}
          <li class="px-2 py-0.5">
            <span class="mono">{d.name}</span>
            <span class="text-muted"
              >{d.revision ? `published, revision ${d.revision}` : d.status} by {d.closed_by}</span
            >
          </li>
        {/each}
      </ul>
    {/if}
  </aside>
  <div class="overflow-y-auto p-5" use:scrollable={'Draft'}>
    {#if name}{#key name}<DraftView {name} />{/key}
    {:else}
      <p class="max-w-prose text-muted">
        A draft holds changes that take no effect yet. Open one, make the changes where you always make them, look at
        every page through it, and see here who would gain and who would lose what. Publishing makes all of it one
        revision.
      </p>
    {/if}
  </div>
</div>
{#if opening}<OpenDraft bind:open={opening} />{/if}
