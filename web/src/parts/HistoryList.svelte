<script lang="ts">
  import { momentOf } from '../lib/dates'
  import { api, get, says, type Problem, type Schemas } from '../lib/api'
  import { fetched } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
  import ChangeDialog from './ChangeDialog.svelte'
  import Trouble from './Trouble.svelte'

  // Revisions, newest first: all, or those about an object, a subject or a policy.
  let { of = '' }: { of?: string } = $props()
  type Past = Schemas['WirePast']
  let list = $state<Past[] | null>(null)
  let next = $state('')
  let problem = $state<Problem | null>(null)
  let undoing = $state<Past | null>(null)
  let open = $state(false)
  let opened = $state<number[]>([])
  const admin = $derived(!!signed.session?.administrator)

  fetched(
    (signal) => get(api.GET('/api/v1/history', { signal, params: { query: { of: of || undefined, limit: 50 } } })),
    (page) => {
      list = page.items
      next = page.next ?? ''
      problem = null
    },
    (p) => (problem = p),
  )
  async function more() {
    try {
      const query = { of: of || undefined, after: Number(next), limit: 50 }
      const page = await get(api.GET('/api/v1/history', { params: { query } }))
      list = [...(list ?? []), ...page.items]
      next = page.next ?? ''
    } catch (error) {
      problem = says(error)
    }
  }
  const lines = (p: Past) =>
    p.effects.flatMap((e) => [
      ...e.gains.map((what) => ({ who: e.subject, what, gain: true })),
      ...e.loses.map((what) => ({ who: e.subject, what, gain: false })),
    ])
  const toggle = (n: number) => (opened = opened.includes(n) ? opened.filter((x) => x !== n) : [...opened, n])
</script>

{#if problem}
  <Trouble {problem} />
{:else if !list}
  <div class="panel h-40 animate-pulse bg-raised" aria-busy="true"></div>
{:else if !list.length}
  <p class="text-muted">No revision is about it.</p>
{:else}
  <ol class="panel divide-y divide-line" aria-label="Revisions">
    {#each list as p (p.revision)}
      {@const effects = lines(p)}
      <li class="grid grid-cols-[4rem_minmax(0,1fr)_auto] gap-x-3 px-3 py-2">
        <span class="mono text-muted">{p.revision}</span>
        <div>
          {#each p.says.slice(0, 8) as line, i (i)}<p class="first-letter:uppercase">{line}.</p>{/each}
          {#if p.says.length > 8}<p class="text-sm text-muted">and {p.says.length - 8} more</p>{/if}
          <p class="text-xs text-muted">
            <span class="mono">{p.by}</span>, {momentOf(p.at)}{p.reason ? `: ${p.reason}` : ''}
            {#if p.draft}<span class="chip ml-1">draft {p.draft}</span>{/if}
            {#each p.names as n (n)}<span class="chip ml-1">{n}</span>{/each}
          </p>
          {#if effects.length}
            <button
              type="button"
              class="text-sm text-muted underline"
              aria-expanded={opened.includes(p.revision)}
              onclick={() => toggle(p.revision)}
              >{effects.length === 1 ? 'one change of access' : `${effects.length} changes of access`}</button
            >
            {#if opened.includes(p.revision)}
              <ul class="mt-1 text-sm">
                {#each effects.slice(0, 40) as e, i (i)}<li>
                    <span class={e.gain ? 'text-epidote' : 'text-garnet'}>{e.gain ? '+ gains' : '− loses'}</span>
                    <span class="mono">{e.who}</span>
                    {e.what}
                  </li>{/each}
                {#if effects.length > 40}<li class="text-muted">and {effects.length - 40} more</li>{/if}
              </ul>
            {/if}
          {/if}
        </div>
        <div class="flex items-start gap-2">
          <button
            type="button"
            class="btn py-0 text-sm"
            onclick={() => place.look({ at: String(p.revision), draft: '' })}>Look from then</button
          >
          {#if admin && p.revision > 1}
            <button
              type="button"
              class="btn py-0 text-sm"
              onclick={() => {
                undoing = p
                open = true
              }}>Undo …</button
            >
          {/if}
        </div>
      </li>
    {/each}
  </ol>
  {#if next}<button type="button" class="btn mt-3" onclick={more}>Fetch older ones</button>{/if}
{/if}
{#if undoing && open}
  <ChangeDialog
    bind:open
    title="Undo revision {undoing.revision}"
    verb={place.moment.draft ? `Undo in the draft ${place.moment.draft}` : 'Undo'}
    asked={String(undoing.revision)}
    sentence
    send={(dry) => get(api.POST('/api/v1/undo', { body: { revisions: [undoing!.revision], dry_run: dry } }))}
  >
    <p class="text-muted">What it did becomes as if it had not been done; what came later stays.</p>
  </ChangeDialog>
{/if}
