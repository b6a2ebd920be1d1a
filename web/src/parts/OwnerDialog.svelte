<script lang="ts">
  import { api, get } from '../lib/api'
  import ChangeDialog from './ChangeDialog.svelte'
  import SubjectPicker from './SubjectPicker.svelte'

  // Gives an object another owner, or leaves it to the owner of what it is in.
  let {
    open = $bindable(false),
    object,
    owner = '',
    own = false,
  }: { open: boolean; object: string; owner?: string; own?: boolean } = $props()
  let next = $state('')
  let leave = $state(false)

  const put = (owner: string, dry: boolean) =>
    get(api.POST('/api/v1/owners', { body: { objects: [object], owner, dry_run: dry || undefined } }))
</script>

<ChangeDialog
  bind:open
  title="Owner of {object}"
  verb="Change the owner"
  asked={JSON.stringify([next, leave])}
  ready={leave || !!next}
  send={(dry) => put(leave ? '' : next, dry)}
  undo={() => {
    const before = own ? owner : ''
    return () => put(before, false)
  }}
>
  <p class="text-muted">
    The owner has ALL on {object} and below, and USAGE on the way to it. Consider a role: roles stay when people leave. Now:
    <span class="mono">{owner || 'nobody'}</span>{own || !owner ? '' : ', the owner of what it is in'}.
  </p>
  {#if !leave}<SubjectPicker bind:value={next} label="Owner" placeholder="role: …" />{/if}
  {#if own}
    <label class="flex items-center gap-2"
      ><input type="checkbox" bind:checked={leave} /> Leave it to the owner of what it is in</label
    >
  {/if}
</ChangeDialog>
