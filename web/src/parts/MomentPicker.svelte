<script lang="ts">
  import { api, get, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { fetched } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import OpenDraft from './OpenDraft.svelte'

  // Which state the whole console is about: as it is now, through a draft, or at a moment.
  let drafts = $state<Schemas['WireDraft'][]>([])
  let opening = $state(false)
  let choosing = $state(false)
  let at = $state('')
  $effect(() => {
    at = place.moment.at ?? ''
    choosing = !!place.moment.at
  })
  fetched(
    (signal) => get(api.GET('/api/v1/drafts', { signal })),
    (list) => (drafts = list.items.filter((d) => d.status === 'open')),
    (problem) => changes.failed(problem),
  )
  const chosen = $derived(place.moment.draft ?? (choosing ? '@' : ''))
  const steps = $derived(drafts.find((d) => d.name === place.moment.draft)?.steps.length ?? 0)

  function pick(value: string) {
    if (value === '+') opening = true
    else if (value === '@') {
      choosing = true
      place.look({ draft: '' })
    } else {
      choosing = false
      place.look({ draft: value, at: '' })
    }
  }
</script>

<label class="flex items-center gap-3 whitespace-nowrap text-muted"
  >as of
  <select
    class="field w-auto max-w-48 text-ink"
    aria-label="As of"
    value={chosen}
    onchange={(e) => {
      const value = e.currentTarget.value
      e.currentTarget.value = chosen
      pick(value)
    }}
  >
    <option value="">now</option>
    <option value="@">a moment …</option>
    {#if place.moment.draft && !drafts.some((d) => d.name === place.moment.draft)}
      <option value={place.moment.draft}>draft {place.moment.draft}</option>
    {/if}
    {#each drafts as d (d.name)}<option value={d.name}>draft {d.name}</option>{/each}
    <option value="+">open a draft …</option>
  </select></label
>
{#if choosing}
  <input
    class="field mono w-40"
    aria-label="Moment"
    placeholder="118 or 2026-11-01"
    bind:value={at}
    onchange={() => place.look({ at: at.trim() })}
  />
{/if}
{#if place.moment.at}<span class="text-sm text-muted">rights of then, rows of now</span>{/if}
{#if place.moment.draft}
  <a class="chip hover:underline" href={place.href('/drafts/' + place.moment.draft)}
    >changes go into the draft · {steps} in it</a
  >
{/if}
{#if opening}<OpenDraft bind:open={opening} />{/if}
