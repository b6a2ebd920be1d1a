<script lang="ts">
  import { together } from '../lib/changes.svelte'
  import { scrollable } from '../lib/scrollable'
  import { api, get, type Changed, type Grant } from '../lib/api'
  import ChangeDialog from './ChangeDialog.svelte'

  // Revokes one grant or several, with what depends on them where that is wanted.
  let { open = $bindable(false), grants }: { open: boolean; grants: Grant[] } = $props()
  let cascade = $state(false)
  let optionOnly = $state(false)
  const passes = $derived(grants.some((g) => g.option))

  const request = (g: Grant) => ({
    privileges: [g.privilege],
    objects: [g.object],
    subjects: [g.subject],
    grantor: g.grantor,
  })

  const send = (dry: boolean) =>
    together(grants, (g) =>
      get(
        api.POST('/api/v1/grants/revoke', {
          body: { ...request(g), cascade, option_only: optionOnly, dry_run: dry || undefined },
        }),
      ),
    )
  function undo() {
    const bodies = grants.map((g) => ({
      ...request(g),
      grantor: undefined,
      option: g.option,
      ticket: g.ticket,
      reason: g.reason,
      until: g.until,
    }))
    return () => together(bodies, (body) => get(api.POST('/api/v1/grants', { body })))
  }
</script>

<ChangeDialog
  bind:open
  title={grants.length === 1 ? 'Revoke a grant' : `Revoke ${grants.length} grants`}
  verb="Revoke"
  asked={JSON.stringify([grants, cascade, optionOnly])}
  {send}
  undo={cascade ? undefined : undo}
  none="Nobody loses anything by it: it gave nothing, or something else gives the same."
>
  <ul class="max-h-32 overflow-y-auto" use:scrollable={'Grants'}>
    {#each grants as g, i (i)}
      <li class="mono">
        {g.privilege} on {g.object} to {g.subject} <span class="text-muted">by {g.grantor || 'the platform'}</span>
      </li>
    {/each}
  </ul>
  {#if passes}
    <label class="flex items-center gap-2"
      ><input type="checkbox" bind:checked={optionOnly} /> Only the grant option: they keep the right, and may not pass it
      on</label
    >
  {/if}
  <label class="flex items-center gap-2"
    ><input type="checkbox" bind:checked={cascade} /> Also revoke the grants that depend on it (cascade)</label
  >
</ChangeDialog>
