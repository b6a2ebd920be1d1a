<script lang="ts">
  import { api, get, says, type Policy, type Problem, type Schemas } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import ChangeButton from './ChangeButton.svelte'
  import ChangeDialog from './ChangeDialog.svelte'
  import LiveCounts from './LiveCounts.svelte'
  import Modal from './Modal.svelte'
  import Trouble from './Trouble.svelte'

  // Policies as sentences, with what can be done about them.
  let {
    policies,
    manage,
    onedit,
    where = false,
    none = 'No policies: who holds SELECT sees all rows, and all columns in clear.',
  }: {
    policies: Policy[]
    manage: boolean
    onedit: (p: Policy) => void
    /** Shows what each is about, as a link. */
    where?: boolean
    none?: string
  } = $props()

  let trying = $state(false)
  let turning = $state(false)
  let tried = $state<Policy | null>(null)
  let trial = $state<Schemas['WireTrialResult'] | null>(null)
  let problem = $state<Problem | null>(null)

  const set = (name: string, status: Policy['status'], dry: boolean) =>
    get(
      api.PATCH('/api/v1/policies/{name}', { params: { path: { name } }, body: { status, dry_run: dry || undefined } }),
    )
  const back = ({ name, status }: Policy) => {
    return () => set(name, status, false)
  }
  const nobody = 'Nobody gains or loses anything by it now.'
  const remove = (name: string, dry: boolean) =>
    get(api.DELETE('/api/v1/policies/{name}', { params: { path: { name }, query: { dry_run: dry } } }))

  async function look(p: Policy) {
    tried = p
    trial = null
    problem = null
    trying = true
    try {
      trial = await get(api.POST('/api/v1/policies/trial', { body: { ...p, standpoints: [] } }))
    } catch (error) {
      problem = says(error)
    }
  }
  const marks: Record<string, string> = { live: '●', draft: '◌', off: '○' }
  const wide = (p: Policy) => p.table.startsWith('label:') || p.table.includes('*')
</script>

{#snippet turn(p: Policy, next: 'live' | 'off')}
  <ChangeButton
    title="{next === 'live' ? 'Publish' : 'Stop'} the policy {p.name}"
    verb={next === 'live' ? 'Publish' : 'Stop'}
    none={nobody}
    send={(dry) => set(p.name, next, dry)}
    undo={() => back(p)}
  />
{/snippet}

<ul class="panel divide-y divide-line">
  {#each policies as p (p.name)}
    <li class="grid grid-cols-[minmax(0,1fr)_auto] items-baseline gap-x-4 gap-y-0.5 px-3 py-2">
      <span class="min-w-0"
        ><b class="mono">{p.name}</b>
        <span class="text-sm text-muted"
          >{p.kind === 'rows' ? 'rows' : 'columns'} of
          {#if where && !wide(p)}<a
              class="mono hover:underline"
              href={place.href('/tables/' + p.table, { tab: 'policies' })}>{p.table}</a
            >{:else}<span class="mono">{p.table}</span>{/if}{#if wide(p)}, {p.covers}
            {p.kind === 'rows' ? 'tables' : 'columns'} now{/if}{#if p.comment}{' · '}{p.comment}{/if}</span
        ></span
      >
      <span class="flex items-center gap-1.5">
        <span
          class="chip {p.status === 'live' ? 'text-epidote' : p.status === 'draft' ? 'text-feldspar' : 'text-muted'}"
          >{marks[p.status]} {p.status}</span
        >
        {#if manage}
          <button type="button" class="btn py-0 text-sm" onclick={() => onedit(p)}>Edit</button>
          {#if p.status === 'live'}{@render turn(p, 'off')}
          {:else}<button type="button" class="btn py-0 text-sm" onclick={() => look(p)}>Try</button>{@render turn(
              p,
              'live',
            )}{/if}
          <ChangeButton
            title="Remove the policy {p.name}"
            verb="Remove"
            none={nobody}
            send={(dry) => remove(p.name, dry)}
            undo={() => () => get(api.POST('/api/v1/policies', { body: p }))}
          />
        {/if}
      </span>
      <p class="col-span-2">{p.sentence}.</p>
      {#if p.broken}<p class="col-span-2 text-garnet">
          ⊘ It no longer fits ({p.broken}); what it is about is closed until it is edited or stopped.
        </p>{/if}
    </li>
  {:else}
    <li class="p-3 text-muted">{none}</li>
  {/each}
</ul>
{#if trying && tried}
  <Modal bind:open={trying} title="{tried.name}, if it were live">
    {#if problem}<Trouble {problem} />{:else}<LiveCounts {trial} />{/if}
    <div class="mt-3 flex justify-end gap-2">
      {#if !wide(tried)}<a
          class="btn"
          href={place.href('/tables/' + tried.table, { tab: 'rows', try: tried.name })}
          onclick={() => (trying = false)}>See the rows</a
        >{/if}
      <button type="button" class="btn" onclick={() => (trying = false)}>Close</button>
      <button type="button" class="btn btn-main" onclick={() => ((trying = false), (turning = true))}>Publish …</button>
    </div>
  </Modal>
{/if}
{#if turning && tried}
  {@const p = tried}
  <ChangeDialog
    bind:open={turning}
    title="Publish the policy {p.name}"
    verb="Publish"
    asked={p.name}
    none={nobody}
    send={(dry) => set(p.name, 'live', dry)}
    undo={() => back(p)}
  />
{/if}
