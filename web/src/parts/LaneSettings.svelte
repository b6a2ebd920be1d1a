<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { api, get, type Schemas } from '../lib/api'
  import { loaded } from '../lib/load.svelte'
  import { signed } from '../lib/session.svelte'
  import ChangeDialog from './ChangeDialog.svelte'
  import GrantDialog from './GrantDialog.svelte'
  import Trouble from './Trouble.svelte'

  // Lanes: where queries run, with limits of their own.
  type Lane = Schemas['WireLane']
  const list = loaded(() => get(api.GET('/api/v1/lanes', {})))
  const admin = $derived(!!signed.session?.administrator)
  let editing = $state(false)
  let removing = $state(false)
  let granting = $state(false)
  let chosen = $state<Lane | null>(null)
  let name = $state('')
  let queries = $state(4)
  let seconds = $state(30)
  let rows = $state(10_000)
  let mib = $state(64)

  function edit(lane: Lane | null) {
    chosen = lane
    name = lane?.name ?? ''
    if (lane) {
      ;({ queries, seconds, rows } = lane.limits)
      mib = lane.limits.bytes / 2 ** 20
    }
    editing = true
  }
  const limits = $derived({ queries, seconds, rows, bytes: Math.round(mib * 2 ** 20) })
  const put = (name: string, limits: Schemas['WireLimits'], replace: boolean, dry: boolean) =>
    get(api.POST('/api/v1/lanes', { body: { name, limits, replace: replace || undefined, dry_run: dry || undefined } }))
  const remove = (name: string, dry: boolean) =>
    get(api.DELETE('/api/v1/lanes/{name}', { params: { path: { name }, query: { dry_run: dry } } }))
</script>

<p class="mb-3 max-w-prose text-muted">
  Seeing data and spending compute are two permissions: a query needs the tables' privileges, and USAGE on a lane. A
  query that names no lane runs on <span class="mono">interactive</span> where that is open, else on the first that is.
</p>
{#if list.problem}<Trouble problem={list.problem} />{/if}
<div class="panel overflow-x-auto" use:scrollable={'Lanes'}>
  <table class="dense">
    <thead
      ><tr
        ><th>Lane</th><th class="text-right!">At once</th><th class="text-right!">Running</th><th class="text-right!"
          >Seconds</th
        ><th class="text-right!">Rows</th><th class="text-right!">MiB</th><th class="text-right!">May run</th><th
          >Open to you</th
        ><th class="w-0"><span class="sr-only">Actions</span></th></tr
      ></thead
    >
    <tbody>
      {#each list.value?.items ?? [] as l (l.name)}
        <tr>
          <td class="mono font-semibold">{l.path}</td>
          <td class="text-right">{l.limits.queries}</td>
          <td class="text-right">{l.running}</td>
          <td class="text-right">{l.limits.seconds}</td>
          <td class="text-right">{l.limits.rows.toLocaleString('en')}</td>
          <td class="text-right">{Math.round(l.limits.bytes / 2 ** 20)}</td>
          <td class="text-right {l.users ? '' : 'text-garnet'}">{l.users || '∅ no members'}</td>
          <td>{l.open ? '● yes' : '○ no'}</td>
          <td class="whitespace-nowrap">
            {#if admin}
              <button type="button" class="btn py-0 text-sm" onclick={() => ((chosen = l), (granting = true))}
                >Grant</button
              >
              <button type="button" class="btn py-0 text-sm" onclick={() => edit(l)}>Limits</button>
              <button type="button" class="btn py-0 text-sm" onclick={() => ((chosen = l), (removing = true))}
                >Remove</button
              >
            {/if}
          </td>
        </tr>
      {:else}
        <tr
          ><td colspan="9" class="text-muted"
            >{list.value
              ? 'You may use no lane, so you can run no query. An administrator can grant one.'
              : 'Loading …'}</td
          ></tr
        >
      {/each}
    </tbody>
  </table>
</div>
{#if admin && list.value}<button type="button" class="btn mt-3" onclick={() => edit(null)}>Add a lane</button>{/if}
{#if editing}
  <ChangeDialog
    bind:open={editing}
    title={chosen ? `Limits of ${chosen.path}` : 'Add a lane'}
    verb={chosen ? 'Save' : 'Add'}
    asked={JSON.stringify([name, limits])}
    ready={!!name && Object.values(limits).every((n) => n > 0)}
    send={(dry) => put(name, $state.snapshot(limits), !!chosen, dry)}
    undo={() => {
      const [made, before] = [name, chosen?.limits]
      return () => (before ? put(made, before, true, false) : remove(made, false))
    }}
    none="Nobody’s access changes. Queries that are running keep their limits."
  >
    {#if !chosen}<label class="text-sm text-muted"
        >Name <input class="field mono text-ink" bind:value={name} name="name" required /></label
      >{/if}
    <div class="grid grid-cols-2 gap-3">
      <label class="text-sm text-muted"
        >Queries at once <input class="field text-ink" type="number" min="1" bind:value={queries} /></label
      >
      <label class="text-sm text-muted"
        >Seconds of one query <input class="field text-ink" type="number" min="1" bind:value={seconds} /></label
      >
      <label class="text-sm text-muted"
        >Rows of one result <input class="field text-ink" type="number" min="1" bind:value={rows} /></label
      >
      <label class="text-sm text-muted"
        >MiB of one result <input class="field text-ink" type="number" min="1" bind:value={mib} /></label
      >
    </div>
  </ChangeDialog>
{/if}
{#if removing && chosen}
  <ChangeDialog
    bind:open={removing}
    title="Remove {chosen.path}"
    verb="Remove"
    asked={chosen.name}
    send={(dry) => remove(chosen!.name, dry)}
  >
    <p>The grants on it go along. A lane added under the same name is another one.</p>
  </ChangeDialog>
{/if}
{#if granting && chosen}<GrantDialog bind:open={granting} objects={[chosen.path]} kind="lane" />{/if}
