<script lang="ts">
  import { momentOf } from '../lib/dates'
  import { api, get, says, type AuditRecord, type Problem } from '../lib/api'
  import type { components, paths } from '../lib/api.gen'
  import { changes } from '../lib/changes.svelte'
  import type { Column } from '../lib/grid'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
  import { vocabulary } from '../lib/vocabulary.svelte'
  import Grid from '../parts/Grid.svelte'
  import RecordDialog from '../parts/RecordDialog.svelte'
  import SensitiveAccess, { type Filter } from '../parts/SensitiveAccess.svelte'
  import SubjectPicker from '../parts/SubjectPicker.svelte'
  import Trouble from '../parts/Trouble.svelte'

  type Decision = NonNullable<NonNullable<paths['/api/v1/records']['get']['parameters']['query']>['decision']>
  type Action = NonNullable<NonNullable<paths['/api/v1/records']['get']['parameters']['query']>['action']>
  let items = $state.raw<AuditRecord[] | null>(null)
  let next = $state('')
  let problem = $state<Problem | null>(null)
  let actor = $state('')
  let decision = $state('')
  let action = $state('')
  let contains = $state('')
  let label = $state('')
  let running = $state(false)
  let from = $state('')
  let until = $state('')
  let address = $state('')
  let others = $state(false)
  let object = $state('')
  let role = $state('')
  let purpose = $state('')
  let following = $state(false)
  let charted = $state(true)
  const filter = $derived<Filter>({ actor, label, address, from, until, decision, others, object, role, purpose })
  function narrow(f: Filter) {
    actor = f.actor ?? ''
    label = f.label ?? ''
    address = f.address ?? ''
    from = f.from ?? ''
    until = f.until ?? ''
    decision = f.decision ?? ''
    others = f.others ?? false
    object = f.object ?? ''
    role = f.role ?? ''
    purpose = f.purpose ?? ''
  }
  // Labels are for reviewers; others do not ask.
  const byLabel = $derived(!!signed.session?.auditor && signed.session.reviewer)
  let labels = $state<string[]>([])
  $effect(() => {
    if (byLabel)
      get(api.GET('/api/v1/labels', {}))
        .then((list) => (labels = list.items.map((l) => l.name)))
        .catch((error) => (problem = says(error)))
  })
  let open = $state(false)
  const shown = $derived(place.query.get('record') ?? '')

  const query = $derived({
    actor: actor || undefined,
    decision: (decision || undefined) as Decision,
    action: (action || undefined) as Action,
    contains: contains || undefined,
    label: label || undefined,
    running: running || undefined,
    from: from || undefined,
    until: until || undefined,
    address: address || undefined,
    others: others || undefined,
    object: object || undefined,
    role: role || undefined,
    purpose: purpose || undefined,
  })
  // What is asked, for links and streams.
  const asked = $derived(
    new URLSearchParams(
      Object.entries(query)
        .filter(([, value]) => value)
        .map(([name, value]) => [name, String(value)]),
    ),
  )
  const narrowed = $derived([...asked.keys()].length > 0)
  function search(before?: string) {
    get(api.GET('/api/v1/records', { params: { query: { ...query, before, limit: 100 } } }))
      .then((list) => {
        items = before ? [...(items ?? []), ...list.items] : list.items
        next = list.next ?? ''
        problem = null
      })
      .catch((error) => (problem = says(error)))
  }
  // While it follows, what comes is put before what is there. The browser asks again, behind the last that it
  // got, when a stream ends.
  const mostFollowed = 1000
  $effect(() => {
    if (!following) return
    const stream = new EventSource('/api/v1/records?' + asked)
    stream.addEventListener('record', (event) => {
      const record = JSON.parse(event.data) as AuditRecord
      items = [record, ...(items ?? []).filter((r) => r.id !== record.id)].slice(0, mostFollowed)
    })
    return () => stream.close()
  })
  $effect(() => {
    void changes.count
    search()
  })
  $effect(() => {
    open = shown !== ''
  })
  $effect(() => {
    if (!open && place.query.get('record')) place.become('/audit', { record: '' })
  })
  // Both chains are checked by the service, from their first entries on.
  type Verification = components['schemas']['WireVerification']
  let verified = $state<Verification[] | null>(null)
  let verifying = $state(false)
  async function verify() {
    verifying = true
    try {
      verified = [
        await get(api.GET('/api/v1/records/verification', {})),
        await get(api.GET('/api/v1/journal/verification', {})),
      ]
      problem = null
    } catch (error) {
      problem = says(error)
    }
    verifying = false
  }
  const marks: Record<string, string> = { allowed: '● allowed', refused: '⊘ refused', failed: '◬ failed' }

  const counted = (r: AuditRecord) => r.action === 'query' || r.action === 'preview'
  const what = (r: AuditRecord) => `${r.text}${r.reason && r.decision !== 'allowed' ? ` — ${r.reason}` : ''}`
  const columns: Column<AuditRecord>[] = [
    { id: 'record', head: 'Record', class: 'mono', value: (r) => r.reference },
    { id: 'at', head: 'At', class: 'whitespace-nowrap text-muted', value: (r) => momentOf(r.at) },
    { id: 'who', head: 'Who', class: 'mono whitespace-nowrap', value: (r) => r.actor },
    { id: 'as', head: 'Viewing as', class: 'mono', value: (r) => r.standpoint ?? '' },
    { id: 'with', head: 'With', class: 'whitespace-nowrap text-muted', value: (r) => r.client ?? '' },
    { id: 'did', head: 'Did', class: 'whitespace-nowrap', value: (r) => r.action },
    { id: 'decision', head: 'Decision', class: 'whitespace-nowrap', value: (r) => r.decision },
    {
      id: 'rows',
      head: 'Rows',
      number: true,
      value: (r) => (r.status === 'running' ? 'runs' : counted(r) ? r.rows : ''),
    },
    { id: 'what', head: 'What', class: 'w-[40%] max-w-0 min-w-64 truncate', value: what },
  ]
</script>

{#snippet tools()}
  <a class="btn py-0 text-sm" download="record.csv" href="/api/v1/records?{asked}&amp;format=csv&amp;csv_safe=true"
    >CSV</a
  >
  <a class="btn py-0 text-sm" download="record.jsonl" href="/api/v1/records?{asked}&amp;format=jsonl">JSON lines</a>
  {#if next}<button type="button" class="btn py-0 text-sm" onclick={() => search(next)}>Fetch older ones</button>{/if}
{/snippet}
{#snippet cell(r: AuditRecord, c: Column<AuditRecord>)}
  {#if c.id === 'record'}<a class="underline" href={place.href('/audit', { record: r.reference })}>{r.reference}</a>
  {:else if c.id === 'decision'}<span class={r.decision === 'allowed' ? 'text-epidote' : 'text-garnet'}
      >{marks[r.decision]}</span
    >
  {:else if c.id === 'what'}<span title={what(r)}>{what(r)}</span>
  {:else}{c.value(r)}{/if}
{/snippet}

<div class="flex h-full flex-col p-5">
  <div class="mb-3 flex flex-wrap items-center gap-2">
    <h1 class="mr-3">Audit</h1>
    <div class="w-48"><SubjectPicker bind:value={actor} label="Who" placeholder="anybody" /></div>
    <select class="field w-auto" bind:value={action} aria-label="Action"
      ><option value="">any action</option>{#each vocabulary.all.actions as a (a)}<option>{a}</option>{/each}</select
    >
    <select class="field w-auto" bind:value={decision} aria-label="Decision"
      ><option value="">any decision</option>{#each vocabulary.all.decisions as d (d)}<option>{d}</option
        >{/each}</select
    >
    {#if byLabel}<select class="field w-auto" bind:value={label} aria-label="Label"
        ><option value="">any label</option>{#each labels as l (l)}<option>{l}</option>{/each}</select
      >{/if}
    <input class="field w-48" bind:value={contains} placeholder="containing …" aria-label="Containing" />
    <input class="field w-auto" type="date" bind:value={from} aria-label="From" title="From this day on" />
    <input class="field w-auto" type="date" bind:value={until} aria-label="Until" title="Until this day" />
    <label class="flex items-center gap-1 text-sm"><input type="checkbox" bind:checked={running} /> running</label>
    <label class="flex items-center gap-1 text-sm" title="Show what comes as it comes"
      ><input type="checkbox" bind:checked={following} /> follow</label
    >
    {#if address}<button type="button" class="btn" onclick={() => (address = '')}
        >from <span class="mono">{address}</span> ×</button
      >{/if}
    {#if object}<button type="button" class="btn" onclick={() => (object = '')}
        >of <span class="mono">{object}</span> ×</button
      >{/if}
    {#if role}<button type="button" class="btn" onclick={() => (role = '')}
        >by <span class="mono">{role}</span> ×</button
      >{/if}
    {#if purpose}<button type="button" class="btn" onclick={() => (purpose = '')}
        >for <span class="mono">{purpose}</span> ×</button
      >{/if}
    {#if others}<button type="button" class="btn" onclick={() => (others = false)}>as somebody else ×</button>{/if}
    {#if signed.session?.auditor}<button type="button" class="btn ml-auto" disabled={verifying} onclick={verify}
        >{verifying ? 'Verifying …' : 'Verify'}</button
      >{/if}
    {#if narrowed}<button
        type="button"
        class="btn"
        onclick={() => {
          action = contains = ''
          running = false
          narrow({})
        }}>Clear</button
      >{/if}
    {#if signed.session?.auditor}<button
        type="button"
        class="btn"
        aria-pressed={charted}
        onclick={() => (charted = !charted)}>Chart</button
      >{/if}
  </div>
  {#if problem}<Trouble {problem} />{/if}
  {#if verified}
    <div class="panel mb-3 flex items-start gap-3 p-3" role="status">
      <div class="flex-1">
        {#each verified as v (v.chain)}
          <p class={v.holds ? 'text-epidote' : 'text-garnet'}>
            {v.holds
              ? `● The ${v.chain} is intact: ${v.entries} entries`
              : `◬ The ${v.chain} is not intact: ${v.problem}. The ${v.entries} entries before that are`}
          </p>
          {#if v.holds}<p class="mono pl-4 text-xs! break-all text-muted">{v.last} {v.hash}</p>{/if}
        {/each}
        <p class="mt-1 text-sm text-muted">
          Note the last entries and their hashes elsewhere, to compare with later: they stand for all entries before.
        </p>
      </div>
      <button type="button" class="btn" aria-label="Close the verification" onclick={() => (verified = null)}>×</button>
    </div>
  {/if}
  {#if signed.session?.auditor && charted}<SensitiveAccess {filter} onfilter={narrow} />{/if}
  {#if items}
    <Grid
      name="Records"
      {columns}
      rows={items}
      key={(r) => r.id}
      {cell}
      {tools}
      tall="min-h-0 flex-1"
      empty="No such records."
    />
  {:else if !problem}<div class="panel h-64 animate-pulse bg-raised" aria-busy="true"></div>{/if}
</div>
{#if shown}<RecordDialog bind:open reference={shown} />{/if}
