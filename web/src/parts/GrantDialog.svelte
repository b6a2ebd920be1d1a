<script lang="ts">
  import { api, get, says, type Changed, type Problem } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import Effects from './Effects.svelte'
  import Modal from './Modal.svelte'
  import SubjectList from './SubjectList.svelte'
  import Trouble from './Trouble.svelte'

  let {
    open = $bindable(false),
    object,
    kind,
    columns = [],
    to = [],
  }: { open: boolean; object: string; kind: string; columns?: string[]; to?: string[] } = $props()

  const levels: Record<string, string[]> = {
    USAGE: ['source', 'schema'],
    SELECT: ['platform', 'source', 'schema', 'table'],
    DESCRIBE: ['platform', 'source', 'schema', 'table'],
    REVEAL: ['platform', 'source', 'schema', 'table'],
    MANAGE: ['platform', 'source', 'schema', 'table'],
    AUDIT: ['platform', 'source', 'schema'],
    ALL: ['platform', 'source', 'schema', 'table'],
  }
  // A pattern stands for children of a source or schema, also those that come.
  let pattern = $state('')
  const below = $derived(kind === 'source' ? 'schema' : kind === 'schema' ? 'table' : '')
  const level = $derived(pattern && below ? below : kind)
  const offered = $derived(Object.keys(levels).filter((p) => levels[p]!.includes(level)))
  let privileges = $state(['SELECT'])
  /* svelte-ignore state_referenced_locally */
  let refs = $state<string[]>([...to])
  let some = $state<string[]>([])
  let entry = $state(true)
  let option = $state(false)
  let ticket = $state('')
  let until = $state('')
  let would = $state<Changed | null>(null)
  let problem = $state<Problem | null>(null)

  const body = $derived({
    privileges: privileges.filter((p) => offered.includes(p)),
    object: pattern && below ? `${object}.${pattern}` : object,
    subjects: refs,
    columns: some,
    with_entry: entry,
    option,
    ticket: ticket || undefined,
    until: until ? new Date(until + 'T00:00').toISOString() : undefined,
  })

  // What it would do is shown before it is done.
  $effect(() => {
    const asked = body
    would = null
    if (!asked.subjects.length || !asked.privileges.length) return
    get(api.POST('/api/v1/grants', { body: { ...asked, dry_run: true } }))
      .then((c) => {
        if (asked === body) {
          would = c
          problem = null
        }
      })
      .catch((error) => (problem = says(error)))
  })

  async function submit(event: SubmitEvent) {
    event.preventDefault()
    try {
      const sent = $state.snapshot(body)
      changes.made(await get(api.POST('/api/v1/grants', { body: sent })), () =>
        get(api.POST('/api/v1/grants/revoke', { body: sent })),
      )
      open = false
    } catch (error) {
      problem = says(error)
    }
  }

  function toggle(list: string[], item: string): string[] {
    return list.includes(item) ? list.filter((x) => x !== item) : [...list, item]
  }
</script>

<Modal bind:open title="Grant on {object}">
  <form class="flex flex-col gap-3" onsubmit={submit}>
    <fieldset>
      <legend class="mb-1 text-sm text-muted">Privileges</legend>
      <div class="flex flex-wrap gap-x-4 gap-y-1">
        {#each offered as p (p)}
          <label class="mono flex items-center gap-1.5"
            ><input
              type="checkbox"
              checked={privileges.includes(p)}
              onchange={() => (privileges = toggle(privileges, p))}
            />
            {p}</label
          >
        {/each}
      </div>
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
    <label class="flex items-center gap-2"
      ><input type="checkbox" bind:checked={entry} /> Open the doors on the way, too (USAGE on source and schema)</label
    >
    <label class="flex items-center gap-2"
      ><input type="checkbox" bind:checked={option} /> They may grant it on (grant option)</label
    >
    <div class="grid grid-cols-2 gap-3">
      <label class="text-sm text-muted">Ticket <input class="field text-ink" bind:value={ticket} /></label>
      <label class="text-sm text-muted">Until <input class="field text-ink" type="date" bind:value={until} /></label>
    </div>
    {#if problem}<Trouble {problem} />{/if}
    {#if would}
      <section class="rounded border border-line bg-raised p-2" aria-label="What this would do">
        <p class="mb-1 text-sm text-muted">This would do</p>
        <Effects changed={would} />
      </section>
    {/if}
    <div class="flex justify-end gap-2">
      <button type="button" class="btn" onclick={() => (open = false)}>Cancel</button>
      <button class="btn btn-main" disabled={!refs.length || !privileges.length}>Grant</button>
    </div>
  </form>
</Modal>
