<script lang="ts">
  import { api, get, type Changed } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import ChangeDialog from './ChangeDialog.svelte'
  import SubjectPicker from './SubjectPicker.svelte'

  // Opens a review: its name, what it is about, and by when.
  let { open = $bindable(false), scope: given = '' }: { open: boolean; scope?: string } = $props()
  let name = $state('')
  // svelte-ignore state_referenced_locally
  let scope = $state(given)
  let due = $state('')
  let reviewer = $state('')
  let reason = $state('')
  const parts = $derived(scope.split(/[\s,]+/).filter(Boolean))
  const of = (...kinds: string[]) => parts.filter((p) => kinds.some((k) => p.startsWith(k + ':')))
  const send = (dry: boolean): Promise<Changed> =>
    get(
      api.POST('/api/v1/reviews', {
        body: {
          name,
          due,
          reviewer: reviewer || undefined,
          reason: reason || undefined,
          dry_run: dry || undefined,
          scope: {
            objects: parts.filter((p) => !p.includes(':')),
            roles: of('role'),
            labels: of('label'),
            subjects: of('user', 'service', 'group'),
          },
        },
      }),
    )
</script>

<ChangeDialog
  bind:open
  title="Open a review"
  verb="Open"
  asked={JSON.stringify([name, scope, due, reviewer])}
  ready={!!name && !!parts.length && !!due}
  {send}
  sentence
  none="Nothing changes until it is closed."
  ondone={() => place.go('/reviews/' + encodeURIComponent(name))}
>
  <label class="text-sm text-muted"
    >Name <input class="field w-full text-ink" bind:value={name} placeholder="q4" required /></label
  >
  <label class="text-sm text-muted"
    >Scope: objects, <span class="mono">role:</span>, <span class="mono">label:</span>,
    <span class="mono">user:</span>
    <input
      class="field mono w-full text-ink"
      bind:value={scope}
      placeholder="survey.licensing label:finance role:partner"
      required
    /></label
  >
  <div class="flex gap-3">
    <label class="text-sm text-muted">Due <input class="field text-ink" type="date" bind:value={due} required /></label>
    <span class="flex-1 text-sm text-muted"
      >Reviewer (the owners when empty)
      <SubjectPicker
        bind:value={reviewer}
        kinds={['user', 'role', 'group']}
        label="Reviewer"
        placeholder="the owners"
      /></span
    >
  </div>
  <label class="text-sm text-muted"
    >Why <input class="field w-full text-ink" bind:value={reason} placeholder="twice a year" /></label
  >
</ChangeDialog>
