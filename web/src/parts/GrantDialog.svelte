<script lang="ts">
  import { endOf } from '../lib/dates'
  import { scrollable } from '../lib/scrollable'
  import { api, get } from '../lib/api'
  import { bundles, fits } from '../lib/rights.svelte'
  import { vocabulary } from '../lib/vocabulary.svelte'
  import ChangeDialog from './ChangeDialog.svelte'
  import ObjectPicker from './ObjectPicker.svelte'
  import SubjectList from './SubjectList.svelte'

  let {
    open = $bindable(false),
    objects: given = [],
    kind: givenKind = '',
    columns = [],
    to = [],
  }: { open: boolean; objects?: string[]; kind?: string; columns?: string[]; to?: string[] } = $props()

  // On what: as the page says, or picked here.
  let chosenOn = $state<Record<string, string>>({})
  const objects = $derived(given.length ? given : Object.keys(chosenOn))
  const kind = $derived(givenKind || (Object.values(chosenOn)[0] ?? 'schema'))

  $effect(() => void bundles.load().catch(() => {}))

  // A pattern stands for children of a source or schema, also those that come.
  let pattern = $state('')
  const single = $derived(objects.length === 1)
  const below = $derived(single && kind === 'source' ? 'schema' : single && kind === 'schema' ? 'table' : '')
  const level = $derived(pattern && below ? below : kind)
  const offered = $derived(vocabulary.privileges.filter((p) => vocabulary.applies(p, level)))
  const sets = $derived(bundles.all.filter((b) => fits(b, level)))
  /* svelte-ignore state_referenced_locally */
  let chosen = $state(givenKind === 'lane' ? ['USAGE'] : ['SELECT'])
  /* svelte-ignore state_referenced_locally */
  let refs = $state<string[]>([...to])
  let some = $state<string[]>([])
  let entry = $state(true)
  let option = $state(false)
  let ticket = $state('')
  let until = $state('')
  let reason = $state('')

  const body = $derived({
    privileges: chosen.filter((p) => offered.includes(p) || sets.some((b) => b.name === p)),
    objects: pattern && below ? [`${objects[0]}.${pattern}`] : objects,
    subjects: refs,
    columns: some,
    with_entry: entry && kind !== 'lane',
    option,
    ticket: ticket || undefined,
    reason: reason || undefined,
    until: endOf(until),
  })

  const send = (dry: boolean) =>
    get(api.POST('/api/v1/grants', { body: { ...$state.snapshot(body), dry_run: dry || undefined } }))
  function undo() {
    const { privileges, objects, subjects, columns } = $state.snapshot(body)
    return () => get(api.POST('/api/v1/grants/revoke', { body: { privileges, objects, subjects, columns } }))
  }

  function toggle(list: string[], item: string): string[] {
    return list.includes(item) ? list.filter((x) => x !== item) : [...list, item]
  }
</script>

<ChangeDialog
  bind:open
  title={!given.length
    ? `Grant to ${to.join(', ')}`
    : single
      ? `Grant on ${objects[0]}`
      : `Grant on ${objects.length} objects`}
  verb="Grant"
  asked={JSON.stringify(body)}
  ready={refs.length > 0 && body.privileges.length > 0 && objects.length > 0}
  {send}
  {undo}
>
  {#if !given.length}
    <div>
      <p class="mb-1 text-sm text-muted">On</p>
      <p class="mb-1 flex min-h-6 flex-wrap gap-1">
        {#each objects as o (o)}<span class="chip"
            >{o}<button
              type="button"
              aria-label="Leave out {o}"
              onclick={() => (chosenOn = Object.fromEntries(Object.entries(chosenOn).filter(([path]) => path !== o)))}
              >×</button
            ></span
          >{:else}<span class="text-muted">nothing yet</span>{/each}
      </p>
      <ObjectPicker
        label="Grant on"
        onpick={(path, kind) => {
          const same = Object.values(chosenOn).every((k) => k === kind)
          chosenOn = same ? { ...chosenOn, [path]: kind } : { [path]: kind }
        }}
      />
    </div>
  {:else if !single}
    <p class="max-h-16 overflow-y-auto" use:scrollable={'Objects'}>
      {#each objects as o (o)}<span class="chip mr-1">{o}</span>{/each}
    </p>
  {/if}
  <fieldset>
    <legend class="mb-1 text-sm text-muted">Privileges</legend>
    <div class="flex flex-wrap gap-x-4 gap-y-1">
      {#each offered as p (p)}
        <label class="mono flex items-center gap-1.5"
          ><input type="checkbox" checked={chosen.includes(p)} onchange={() => (chosen = toggle(chosen, p))} />
          {p}</label
        >
      {/each}
    </div>
    {#if sets.length}
      <p class="mt-2 mb-1 text-sm text-muted">Or bundles of them</p>
      <div class="flex flex-wrap gap-x-4 gap-y-1">
        {#each sets as b (b.name)}
          <label class="mono flex items-center gap-1.5" title={b.privileges.join(', ')}
            ><input
              type="checkbox"
              checked={chosen.includes(b.name)}
              onchange={() => (chosen = toggle(chosen, b.name))}
            />
            {b.name}</label
          >
        {/each}
      </div>
    {/if}
  </fieldset>
  <div>
    <p class="mb-1 text-sm text-muted">To</p>
    <SubjectList bind:refs label="Grant to" empty="nobody yet" />
  </div>
  {#if kind === 'table' && columns.length}
    <details>
      <summary class="text-sm text-muted"
        >{some.length
          ? `Only ${some.length} of ${columns.length} columns`
          : 'The whole table, later columns too; or only some columns'}</summary
      >
      <div class="mt-1 flex flex-wrap gap-x-4">
        {#each columns as c (c)}
          <label class="mono flex items-center gap-1.5"
            ><input type="checkbox" checked={some.includes(c)} onchange={() => (some = toggle(some, c))} /> {c}</label
          >
        {/each}
      </div>
    </details>
  {/if}
  {#if below}
    <label class="text-sm text-muted"
      >Only {below}s named, with * for any characters
      <input
        class="field mono text-ink"
        bind:value={pattern}
        placeholder="all that is below it"
        pattern="[a-z0-9_*]*\*[a-z0-9_*]*"
      />
    </label>
  {/if}
  {#if kind !== 'lane'}
    <label class="flex items-center gap-2"
      ><input type="checkbox" bind:checked={entry} /> Also grant the USAGE that is missing on the way, and a lane</label
    >
  {/if}
  <label class="flex items-center gap-2"
    ><input type="checkbox" bind:checked={option} /> They may grant it on (grant option)</label
  >
  <div class="grid grid-cols-3 gap-3">
    <label class="text-sm text-muted">Ticket <input class="field text-ink" bind:value={ticket} /></label>
    <label class="text-sm text-muted">Until <input class="field text-ink" type="date" bind:value={until} /></label>
    <label class="text-sm text-muted">Reason <input class="field text-ink" bind:value={reason} /></label>
  </div>
</ChangeDialog>
