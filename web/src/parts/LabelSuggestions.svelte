<script lang="ts">
  import { momentOf } from '../lib/dates'
  import { scrollable } from '../lib/scrollable'
  import { api, get, says, type Problem, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { place } from '../lib/place.svelte'
  import ChangeButton from './ChangeButton.svelte'
  import Trouble from './Trouble.svelte'

  // Columns that seem to need a label, with the evidence.
  type Suggestion = Schemas['WireSuggestion']
  let found = $state<Schemas['WireSuggestions'] | null>(null)
  let problem = $state<Problem | null>(null)
  let dismissed = $state(false)
  let looking = $state(false)
  let marked = $state<string[]>([])
  const key = (s: Suggestion) => `${s.label} ${s.column}`

  async function load(again = false) {
    looking = true
    try {
      found = await get(api.GET('/api/v1/label-suggestions', { params: { query: { again, dismissed } } }))
      problem = null
    } catch (error) {
      problem = says(error)
    }
    looking = false
  }
  $effect(() => {
    void changes.count
    void dismissed
    load()
  })

  const accept = (list: Suggestion[], dry: boolean) => {
    const items = list.map((s) => ({ column: s.column, label: s.label, topic: s.topic, level: s.level as 'internal' }))
    return get(api.POST('/api/v1/label-suggestions', { body: { items, dry_run: dry || undefined } }))
  }

  async function dismiss(s: Suggestion) {
    try {
      const body = { do: 'dismiss' as const, objects: [s.column] }
      changes.made(
        await get(api.POST('/api/v1/labels/{name}/placements', { params: { path: { name: s.label } }, body })),
      )
    } catch (error) {
      changes.failed(error)
    }
  }
  const none = 'Nobody gains or loses anything by it now.'
  const chosen = $derived((found?.items ?? []).filter((s) => marked.includes(key(s))))
</script>

<div class="mb-3 flex flex-wrap items-center gap-3">
  <button type="button" class="btn" onclick={() => load(true)} disabled={looking}
    >{looking ? 'Scanning …' : 'Scan again'}</button
  >
  <label class="flex items-center gap-1.5"><input type="checkbox" bind:checked={dismissed} /> those dismissed</label>
  {#if found}<span class="text-sm text-muted"
      >{found.tables} tables, their values sampled {momentOf(found.scanned)}</span
    >{/if}
  {#if chosen.length}<ChangeButton
      title="Put {chosen.length} labels as suggested"
      verb="Accept"
      class="btn btn-main ml-auto"
      {none}
      sentence
      send={(dry) => accept(chosen, dry)}
      ondone={() => (marked = [])}>Accept {chosen.length}</ChangeButton
    >{/if}
</div>
{#if problem}<Trouble {problem} />{/if}
{#if found}
  <div class="panel overflow-x-auto" use:scrollable={'Suggestions'}>
    <table class="dense">
      <thead
        ><tr
          ><th class="w-0"><span class="sr-only">Choose</span></th><th>Column</th><th>Looks like</th><th>Label</th><th
            class="w-36">Sure</th
          ><th>Why</th><th class="w-0"><span class="sr-only">Actions</span></th></tr
        ></thead
      >
      <tbody>
        {#each found.items as s (key(s))}
          <tr>
            <td
              ><input
                type="checkbox"
                value={key(s)}
                bind:group={marked}
                aria-label="Mark {s.label} for {s.column}"
              /></td
            >
            <td class="mono"
              ><a
                class="hover:underline"
                href={place.href('/tables/' + s.column.slice(0, s.column.lastIndexOf('.')), { tab: 'columns' })}
                >{s.column}</a
              ></td
            >
            <td>{s.form}</td>
            <td><span class="chip">{s.label}</span> <span class="text-sm text-muted">{s.level}</span></td>
            <td>
              <span class="flex items-center gap-2 whitespace-nowrap"
                ><span class="inline-block h-1.5 w-16 rounded bg-line" aria-hidden="true"
                  ><span class="block h-1.5 rounded bg-garnet" style="width: {100 * s.confidence}%"></span></span
                >{Math.round(100 * s.confidence)} %</span
              >
            </td>
            <td class="text-sm text-muted">{s.evidence.join('; ')}</td>
            <td class="whitespace-nowrap">
              <ChangeButton title="Put {s.label} on {s.column}" verb="Accept" {none} send={(dry) => accept([s], dry)} />
              {#if !dismissed}<button type="button" class="btn py-0 text-sm" onclick={() => dismiss(s)}>Dismiss</button
                >{/if}
            </td>
          </tr>
        {:else}<tr
            ><td colspan="7" class="p-4 text-muted"
              >{dismissed
                ? 'Nothing was dismissed.'
                : 'Nothing to suggest: every column that looks sensitive has a label.'}</td
            ></tr
          >{/each}
      </tbody>
    </table>
  </div>
  {#each found.failed as t (t)}<p class="mt-1 text-sm text-muted">
      The values of <span class="mono">{t}</span> could not be read; the suggestions come from names and types.
    </p>{/each}
{:else if !problem}<p class="text-muted" aria-busy="true">Sampling the tables …</p>{/if}
