<script lang="ts">
  import { momentOf } from '../lib/dates'
  import { api, get, type Problem, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import type { Column } from '../lib/grid'
  import { fetched } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import ChangeDialog from './ChangeDialog.svelte'
  import Effects from './Effects.svelte'
  import Grid from './Grid.svelte'
  import Trouble from './Trouble.svelte'

  // One open draft: what is in it, and what it would do to whom.
  let { name }: { name: string } = $props()
  let draft = $state<Schemas['WireDraft'] | null>(null)
  let impact = $state<Schemas['WireImpact'] | null>(null)
  let problem = $state<Problem | null>(null)
  let publishing = $state(false)
  let dropping = $state(false)
  const path = $derived({ name })
  const failed = (p: Problem) => (problem = p)
  fetched(
    (signal) => get(api.GET('/api/v1/drafts/{name}', { signal, params: { path } })),
    (d) => {
      draft = d
      problem = null
    },
    failed,
  )
  fetched(
    (signal) => get(api.GET('/api/v1/drafts/{name}/impact', { signal, params: { path } })),
    (x) => (impact = x),
    failed,
  )
  async function remove(number: number) {
    try {
      changes.made(
        await get(api.DELETE('/api/v1/drafts/{name}/steps/{number}', { params: { path: { name, number } } })),
      )
    } catch (error) {
      changes.failed(error)
    }
  }
  const inIt = $derived(place.moment.draft === name)
  type Row = Schemas['WireImpact']['tables'][number]
  const columns: Column<Row>[] = [
    { id: 'table', head: 'Table', class: 'mono', value: (r) => r.table },
    { id: 'subject', head: 'Subject', class: 'mono', value: (r) => r.subject },
    { id: 'before', head: 'Rows now', number: true, value: (r) => r.before ?? '–' },
    { id: 'after', head: 'With it', number: true, value: (r) => r.after ?? '–' },
    { id: 'what', head: 'What', value: (r) => [...r.columns, r.note ?? ''].filter(Boolean).join('; ') },
  ]
  const leave = () => {
    if (inIt) place.look({ draft: '' })
    place.go('/drafts')
  }
</script>

{#if problem}
  <Trouble {problem} />
{:else if draft}
  <div class="mb-3 flex flex-wrap items-start justify-between gap-3">
    <div>
      <p class="text-sm text-muted">draft, on revision {draft.base}</p>
      <h1 class="font-mono">{draft.name}</h1>
      <p class="text-muted">
        {draft.reason ? `${draft.reason}; ` : ''}opened by <span class="mono">{draft.by}</span>,
        {momentOf(draft.opened)}
      </p>
    </div>
    <div class="flex flex-wrap gap-2">
      {#if inIt}<button type="button" class="btn" onclick={() => place.look({ draft: '' })}>Leave the draft</button>
      {:else}<button type="button" class="btn" onclick={() => place.look({ draft: name, at: '' })}
          >Look through it</button
        >{/if}
      {#if draft.fill}<button type="button" class="btn" onclick={() => (dropping = true)}>Drop …</button>{/if}
      <button
        type="button"
        class="btn btn-main"
        disabled={!draft.steps.length || draft.misfits > 0}
        title={draft.misfits ? 'Take out what no longer fits first' : undefined}
        onclick={() => (publishing = true)}>Publish …</button
      >
    </div>
  </div>
  <h2 class="mb-2">What it changes</h2>
  {#if draft.steps.length}
    <ol class="panel mb-5 divide-y divide-line" aria-label="Changes">
      {#each draft.steps as s (s.number)}
        <li class="grid grid-cols-[2.5rem_minmax(0,1fr)_auto] gap-x-2 px-3 py-2">
          <span class="mono text-muted">{s.number}</span>
          <div>
            {#each s.says as line, i (i)}<p class="first-letter:uppercase">{line}.</p>{/each}
            {#if s.misfit}<p class="text-garnet">⊘ It no longer fits: {s.misfit}.</p>{/if}
            <p class="text-xs text-muted">
              <span class="mono">{s.by}</span>, {momentOf(s.at)}{s.reason ? `: ${s.reason}` : ''}
            </p>
          </div>
          {#if draft.fill}<button
              type="button"
              class="btn self-start px-2 py-0"
              aria-label="Take out change {s.number}"
              onclick={() => remove(s.number)}>×</button
            >{/if}
        </li>
      {/each}
    </ol>
    <h2 class="mb-2">Who would gain and who would lose what</h2>
    {#if impact}
      <div class="panel mb-5 p-3">
        <Effects
          changed={{
            revision: 0,
            done: false,
            revised: false,
            says: [],
            notes: impact.notes,
            effects: impact.effects,
            more: impact.more,
          }}
          none="Nobody gains or loses anything by it."
        />
      </div>
      {#if impact.breaks.length}
        <h2 class="mb-2">What it breaks</h2>
        <ul class="panel mb-5 divide-y divide-line" aria-label="What it breaks">
          {#each impact.breaks as b (b.kind + b.name)}
            <li class="px-3 py-2">
              <p>
                <span class="text-garnet">⊘ {b.kind === 'test' ? 'access test' : 'guardrail'}</span>
                <span class="mono">{b.name}</span>: {b.sentence}.
              </p>
              {#each b.says.slice(0, 3) as line, i (i)}<p class="text-sm text-muted first-letter:uppercase">
                  {line}.
                </p>{/each}
            </li>
          {/each}
        </ul>
      {/if}
      {#if impact.tables.length}
        <h2 class="mb-2">Rows and columns, by table</h2>
        <div class="mb-5">
          <Grid name="Impact" {columns} rows={impact.tables} key={(r) => r.table + ' ' + r.subject} />
        </div>
      {/if}
      {#if impact.between.length}
        <h2 class="mb-2">Since it was opened</h2>
        <ul class="panel divide-y divide-line">
          {#each impact.between.slice(0, 20) as p (p.revision)}
            <li class="px-3 py-1.5">
              <span class="mono text-muted">{p.revision}</span>
              {p.says.join('; ')} <span class="text-xs text-muted">by {p.by}</span>
            </li>
          {/each}
          {#if impact.between.length > 20}<li class="px-3 py-1.5 text-muted">
              and {impact.between.length - 20} more: see History
            </li>{/if}
        </ul>
      {/if}
    {:else}<div class="panel h-24 animate-pulse bg-raised" aria-busy="true"></div>{/if}
  {:else}
    <p class="max-w-prose text-muted">
      Nothing is in it yet. {inIt
        ? 'Make changes on any page: they go in here.'
        : 'Look through it, and what you change on any page goes in here.'}
    </p>
  {/if}
  {#if publishing}
    <ChangeDialog
      bind:open={publishing}
      title="Publish {name}"
      verb="Publish"
      asked={name + draft.steps.map((s) => s.number).join()}
      sentence
      send={(dry) => get(api.POST('/api/v1/drafts/{name}/publication', { params: { path }, body: { dry_run: dry } }))}
      ondone={leave}
    >
      <p class="text-muted">All of it becomes one revision, which can be undone.</p>
    </ChangeDialog>
  {/if}
  {#if dropping}
    <ChangeDialog
      bind:open={dropping}
      title="Drop {name}"
      verb="Drop"
      asked={name}
      sentence
      none="Nothing that is in force changes."
      send={(dry) => get(api.DELETE('/api/v1/drafts/{name}', { params: { path, query: { dry_run: dry } } }))}
      ondone={leave}
    />
  {/if}
{:else}<div class="panel h-64 animate-pulse bg-raised" aria-busy="true"></div>{/if}
