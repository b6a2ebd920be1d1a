<script lang="ts">
  import { api, get, type Changed, type Fix } from '../lib/api'
  import { together } from '../lib/changes.svelte'
  import { place } from '../lib/place.svelte'
  import ChangeDialog from './ChangeDialog.svelte'
  import MemberDialog from './MemberDialog.svelte'

  // One way to put something right: a button that shows what it would do, and to whom,
  // before it does it. Where something is left to choose, it leads to where that is done.
  let { fix, onfixed }: { fix: Fix; onfixed?: () => void } = $props()
  let open = $state(false)
  let choosing = $state(false)

  const verb = $derived(
    fix.grants
      ? 'Grant'
      : fix.revoke
        ? 'Revoke'
        : fix.give
          ? 'Add'
          : fix.take
            ? 'Remove'
            : fix.remove
              ? 'Remove'
              : fix.enable
                ? 'Enable'
                : fix.stop
                  ? 'Stop'
                  : 'Open',
  )
  const where = $derived(
    fix.edit
      ? place.href('/policies', { name: fix.edit })
      : fix.treat
        ? place.href('/policies', { add: 'columns', on: fix.treat })
        : fix.take && !fix.take.member
          ? place.href('/roles/' + fix.take.of)
          : '',
  )
  const chooses = $derived(!!fix.give && !fix.give.member)

  function send(dry: boolean): Promise<Changed> {
    const dry_run = dry || undefined
    if (fix.grants)
      return together(fix.grants, (body) => get(api.POST('/api/v1/grants', { body: { ...body, dry_run } })))
    if (fix.revoke) return get(api.POST('/api/v1/grants/revoke', { body: { ...fix.revoke, dry_run } }))
    if (fix.give) return get(api.POST('/api/v1/memberships', { body: { ...fix.give, dry_run } }))
    if (fix.take) return get(api.POST('/api/v1/memberships/end', { body: { ...fix.take, dry_run } }))
    if (fix.stop)
      return get(
        api.PATCH('/api/v1/policies/{name}', {
          params: { path: { name: fix.stop } },
          body: { status: 'off', dry_run },
        }),
      )
    if (fix.enable)
      return get(
        api.PATCH('/api/v1/subjects/{ref}', {
          params: { path: { ref: fix.enable } },
          body: { subject: fix.enable, disabled: false, dry_run },
        }),
      )
    return get(api.DELETE('/api/v1/subjects/{name}', { params: { path: { name: fix.remove! }, query: { dry_run } } }))
  }

  // The way back from what is sent: the fix may be another one by the time it is taken.
  const undo = $derived.by((): (() => () => Promise<Changed>) | undefined => {
    const { grants, give, stop } = fix
    if (grants) return () => () => together(grants, (body) => get(api.POST('/api/v1/grants/revoke', { body })))
    if (give) return () => () => get(api.POST('/api/v1/memberships/end', { body: give }))
    if (stop)
      return () => () =>
        get(api.PATCH('/api/v1/policies/{name}', { params: { path: { name: stop } }, body: { status: 'live' } }))
  })
</script>

{#if where}<a class="btn py-0 text-left text-sm whitespace-normal!" href={where}
    ><span class="first-letter:uppercase">{fix.says}</span></a
  >
{:else}<button
    type="button"
    class="btn py-0 text-left text-sm whitespace-normal!"
    onclick={() => (chooses ? (choosing = true) : (open = true))}
    ><span class="first-letter:uppercase">{fix.says}</span></button
  >{/if}
{#if open}
  <ChangeDialog
    bind:open
    title={fix.says[0]!.toUpperCase() + fix.says.slice(1)}
    {verb}
    asked={JSON.stringify(fix)}
    {send}
    {undo}
    ondone={() => onfixed?.()}
  />
{/if}
{#if choosing}<MemberDialog bind:open={choosing} of={[fix.give!.of]} />{/if}
