<script lang="ts">
  import { endOf } from '../lib/dates'
  import { together } from '../lib/changes.svelte'
  import { scrollable } from '../lib/scrollable'
  import { api, get, type Schemas } from '../lib/api'
  import ChangeDialog from './ChangeDialog.svelte'
  import SubjectList from './SubjectList.svelte'

  // Puts members in groups and gives them roles, or takes them away: each of the
  // one list to each of the other.
  let {
    open = $bindable(false),
    members = [],
    of = [],
    end = false,
    by = '',
    kinds = [],
  }: { open: boolean; members?: string[]; of?: string[]; end?: boolean; by?: string; kinds?: string[] } = $props()

  /* svelte-ignore state_referenced_locally */
  let who = $state([...members])
  /* svelte-ignore state_referenced_locally */
  let what = $state([...of])
  let until = $state('')
  let ticket = $state('')
  let option = $state(false)
  let cascade = $state(false)
  const pairs = $derived(what.flatMap((of) => who.map((member) => ({ member, of }))))
  const roles = $derived(what.length > 0 && what.every((w) => w.startsWith('role:')))

  const asked = $derived(
    pairs.map((pair) => ({
      ...pair,
      until: endOf(until),
      ticket: ticket || undefined,
      option: (!end && option && roles) || undefined,
      by: (end && by) || undefined,
      cascade: (end && cascade) || undefined,
    })),
  )
  const each = (asked: Schemas['WireMember'][], end: boolean, dry: boolean) =>
    together(asked, (one) => {
      const body = { ...one, dry_run: dry || undefined }
      return get(end ? api.POST('/api/v1/memberships/end', { body }) : api.POST('/api/v1/memberships', { body }))
    })
  function undo() {
    const [was, ended] = [pairs, end]
    return () => each(was, !ended, false)
  }
</script>

<ChangeDialog
  bind:open
  title={end ? 'Remove members' : 'Add members'}
  verb={end ? 'Remove' : 'Add'}
  asked={JSON.stringify(asked)}
  ready={pairs.length > 0}
  send={(dry) => each(asked, end, dry)}
  {undo}
  none={end ? 'Nobody loses anything by it: other ways give the same.' : 'Nobody gains anything by it yet.'}
>
  <div>
    <p class="mb-1 text-sm text-muted">{end ? 'What is taken' : 'Roles and groups'}</p>
    {#if of.length}
      <p>
        {#each of as w (w)}<span class="chip mr-1">{w}</span>{/each}
      </p>
    {:else}<SubjectList bind:refs={what} label="Roles and groups" empty="none yet" {kinds} />{/if}
  </div>
  <div>
    <p class="mb-1 text-sm text-muted">{end ? 'From' : 'To'}</p>
    {#if members.length}
      <p class="max-h-24 overflow-y-auto" use:scrollable={'Members'}>
        {#each members as m (m)}<span class="chip mr-1">{m}</span>{/each}
      </p>
    {:else}<SubjectList bind:refs={who} label="Members" empty="nobody yet" {kinds} />{/if}
  </div>
  {#if end && by}<p class="text-sm text-muted">
      As given by <span class="mono">{by}</span>; what others gave stays.
    </p>{/if}
  {#if end && roles}
    <label class="flex items-center gap-2"
      ><input type="checkbox" bind:checked={cascade} /> Also take it from those they passed it on to</label
    >
  {/if}
  {#if !end}
    <div class="grid grid-cols-2 gap-3">
      <label class="text-sm text-muted">Until <input class="field text-ink" type="date" bind:value={until} /></label>
      <label class="text-sm text-muted">Ticket <input class="field text-ink" bind:value={ticket} /></label>
    </div>
    {#if roles}
      <label class="flex items-center gap-2"
        ><input type="checkbox" bind:checked={option} /> They may give it on (admin option)</label
      >
    {/if}
  {/if}
</ChangeDialog>
