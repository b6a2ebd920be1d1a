<script lang="ts">
  import { fetched } from '../lib/load.svelte'
  import { Tabs } from 'bits-ui'
  import { api, get, type ObjectPage, type Policy, type Problem } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import type { Column } from '../lib/grid'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
  import AccessTable from './AccessTable.svelte'
  import BandGlyph from './BandGlyph.svelte'
  import GrantDialog from './GrantDialog.svelte'
  import HistoryList from './HistoryList.svelte'
  import GrantTable from './GrantTable.svelte'
  import Grid from './Grid.svelte'
  import OwnerDialog from './OwnerDialog.svelte'
  import MatrixView from './MatrixView.svelte'
  import PolicyDialog from './PolicyDialog.svelte'
  import PolicyList from './PolicyList.svelte'
  import RowsView from './RowsView.svelte'
  import TabList from './TabList.svelte'
  import Trouble from './Trouble.svelte'
  import ViewDialog from './ViewDialog.svelte'
  import ViewText from './ViewText.svelte'

  let { path }: { path: string } = $props()
  let page = $state<ObjectPage | null>(null)
  let problem = $state<Problem | null>(null)
  let granting = $state(false)
  let owning = $state(false)
  let viewing = $state(false)
  let writing = $state<'' | 'rows' | 'columns'>('')
  let editing = $state<Policy | undefined>()
  const isTable = $derived(page?.kind === 'table')
  const hasRows = $derived(isTable || page?.kind === 'view')

  fetched(
    (signal) => {
      return get(api.GET('/api/v1/object', { signal, params: { query: { path, ...place.at } } }))
    },
    (o) => {
      page = o
      problem = null
    },
    (p) => {
      problem = p
      page = null
    },
  )

  async function scan() {
    try {
      changes.made(await get(api.POST('/api/v1/sources/{name}/scan', { params: { path: { name: page!.name } } })))
    } catch (error) {
      changes.failed(error)
    }
  }

  function edit(policy: Policy | undefined, kind: string) {
    editing = policy
    writing = kind as 'rows' | 'columns'
  }

  const tabs = $derived<[string, string][]>([
    ...(hasRows
      ? ([
          ['rows', 'Rows'],
          ['columns', `Columns ${page!.columns.length}`],
        ] as [string, string][])
      : []),
    ...(page?.view ? ([['text', 'Text']] as [string, string][]) : []),
    ['who', 'Who has access'],
    ...(isTable && signed.session?.administrator && !place.elsewhere
      ? ([['matrix', 'What each sees']] as [string, string][])
      : []),
    ...(page?.view ? [] : ([['policies', `Policies ${page?.policies.length ?? 0}`]] as [string, string][])),
    ['grants', `Grants ${page?.grants.length ?? 0}`],
    ...(signed.session?.reviewer ? [['history', 'History'] as [string, string]] : []),
  ])
  const tab = $derived(place.tab(tabs, hasRows ? 'rows' : 'who'))

  type Col = ObjectPage['columns'][number]
  const appears = (c: Col) =>
    !c.readable ? 'not granted' : c.revealed ? 'in clear, by REVEAL' : c.treatment === 'clear' ? 'in clear' : c.says
  const columnsOf: Column<Col>[] = [
    { id: 'column', head: 'Column', value: (c) => c.name },
    {
      id: 'type',
      head: 'Type',
      class: 'text-muted',
      value: (c) => (c.declared ?? c.type) + (c.not_null ? ', never null' : ''),
    },
    { id: 'labels', head: 'Labels', value: (c) => c.labels.join(', ') },
    { id: 'appears', head: 'Appears', value: appears },
    { id: 'by', head: 'By', class: 'text-sm', value: (c) => c.by.join(', ') },
  ]
</script>

{#snippet column(c: Col, col: Column<Col>)}
  {#if col.id === 'column'}
    <span class="mono font-semibold">{c.name}</span>{#if c.comment}<br /><span class="text-sm text-muted"
        >{c.comment}</span
      >{/if}
  {:else if col.id === 'labels'}{#each c.labels as l (l)}<span class="chip mr-1">{l}</span>{/each}
  {:else if col.id === 'appears'}
    {#if !c.readable}<span class="text-garnet">⊘ {appears(c)}</span>
    {:else if c.revealed || c.treatment === 'clear'}<span class="text-epidote">● {appears(c)}</span>
    {:else}<span class="text-feldspar" title={c.treatment}>◐ {c.says}{c.conflict ? ' (conflict)' : ''}</span>{/if}
  {:else if col.id === 'by'}
    {#each c.by as name (name)}<span class="chip mr-1">{name}</span>{/each}
    {#each c.lost as name (name)}<span class="chip mr-1 line-through" title="overruled">{name}</span>{/each}
  {:else}{col.value(c)}{/if}
{/snippet}

{#if problem}
  <Trouble {problem} />
{:else if page}
  <div class="mb-3 flex flex-wrap items-start justify-between gap-3">
    <div class="min-w-0 flex-[1_1_20rem]">
      <p class="text-sm text-muted">
        {page.kind === 'table' && page.declared ? page.declared : page.kind}{page.kind === 'routine'
          ? `, gives ${page.type}`
          : ''}{page.missing ? ', no longer in its source' : ''}
      </p>
      <h1 class="font-mono break-words">{page.path}</h1>
      <p class="mt-1 flex items-center gap-2"><BandGlyph bands={page.bands} />{page.bands.says}</p>
      {#if page.comment}<p class="mt-1 max-w-prose">{page.comment}</p>{/if}
      {#if page.past_policies}
        <p class="mt-1 text-feldspar">
          It may read tables: who may EXECUTE it gets what it gives, whatever policies hide.
        </p>
      {/if}
      {#if page.owner}
        <p class="mt-1 text-sm text-muted">
          owned by <a class="mono hover:underline" href={place.href('/subjects/' + page.owner)}>{page.owner}</a
          >{page.own_owner ? '' : ', the owner of what it is in'}
        </p>
      {/if}
      {#if page.read_by?.length}
        <p class="mt-1 text-sm text-muted">
          also read through {#each page.read_by as v, i (v)}{i ? ', ' : ''}<a
              class="mono hover:underline"
              href={place.href('/tables/' + v)}>{v}</a
            >{/each}: SELECT there gives what policies leave of it
        </p>
      {/if}
      {#if page.needs.length}
        <p class="mt-1 text-sm">
          To use it, this needs {#each page.needs as need (need)}<span class="chip mr-1">{need}</span>{/each}
        </p>
      {/if}
    </div>
    {#if page.manage}
      <div class="flex flex-wrap gap-2">
        <button type="button" class="btn btn-main" onclick={() => (granting = true)}>Grant</button>
        {#if page.kind !== 'platform'}<button type="button" class="btn" onclick={() => (owning = true)}>Owner</button
          >{/if}
        {#if page.kind === 'source'}<button type="button" class="btn" onclick={scan}>Scan again</button>{/if}
        {#if page.kind === 'schema'}<button type="button" class="btn" onclick={() => (viewing = true)}>View</button
          >{/if}
        {#if isTable}
          <button type="button" class="btn" onclick={() => edit(undefined, 'rows')}>Row policy</button>
          <button type="button" class="btn" onclick={() => edit(undefined, 'columns')}>Column policy</button>
        {/if}
      </div>
    {/if}
  </div>
  <Tabs.Root value={tab} onValueChange={(value) => place.go(place.path, { tab: value })}>
    <TabList {tabs} />
    <Tabs.Content value="rows"
      >{#if hasRows && tab === 'rows'}<RowsView table={page.path} />{/if}</Tabs.Content
    >
    <Tabs.Content value="columns">
      <Grid
        name="Columns of {page.path}"
        columns={columnsOf}
        rows={page.columns}
        key={(c) => c.name}
        cell={column}
        tall="max-h-[calc(100vh-18rem)] min-h-40"
      />
    </Tabs.Content>
    <Tabs.Content value="text"
      >{#if page.view}<ViewText view={page.view} manage={page.manage} />{/if}</Tabs.Content
    >
    <Tabs.Content value="who"
      >{#if tab === 'who'}<AccessTable to={page.path} />{/if}</Tabs.Content
    >
    <Tabs.Content value="matrix"
      >{#if tab === 'matrix'}<MatrixView
          table={page.path}
          columns={page.columns.map((c) => c.name)}
        />{/if}</Tabs.Content
    >
    <Tabs.Content value="policies"
      >{#if tab === 'policies'}<PolicyList
          policies={page.policies}
          manage={page.manage}
          onedit={(p) => edit(p, p.kind)}
        />{/if}</Tabs.Content
    >
    <Tabs.Content value="history"
      >{#if tab === 'history'}<HistoryList of={page.path} />{/if}</Tabs.Content
    >
    <Tabs.Content value="grants"><GrantTable grants={page.grants} manage={page.manage} /></Tabs.Content>
  </Tabs.Root>
  {#if granting}<GrantDialog
      bind:open={granting}
      objects={[page.path]}
      kind={page.kind}
      columns={page.columns.map((c) => c.name)}
    />{/if}
  {#if viewing}<ViewDialog bind:open={viewing} schema={page.path} />{/if}
  {#if owning}<OwnerDialog bind:open={owning} object={page.path} owner={page.owner} own={page.own_owner} />{/if}
  {#if writing}<PolicyDialog
      bind:open={() => writing !== '', (open) => open || (writing = '')}
      kind={writing}
      on={page.path}
      policy={editing}
    />{/if}
{:else}
  <div class="h-8 w-1/2 animate-pulse rounded bg-raised"></div>
{/if}
