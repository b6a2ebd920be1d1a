<script lang="ts">
  import { shortMomentOf } from '../lib/dates'
  import type { Column } from '../lib/grid'
  import { api, get, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { loaded } from '../lib/load.svelte'
  import { signed } from '../lib/session.svelte'
  import Grid from './Grid.svelte'
  import Modal from './Modal.svelte'
  import Trouble from './Trouble.svelte'

  // Connections of people's own tools to the SQL port. Nothing tells of their coming and going,
  // so they are looked at again from time to time.
  type Connection = Schemas['WireSQLSession']
  let look = $state(0)
  const list = loaded(() => {
    void look
    return get(api.GET('/api/v1/sql-sessions', {}))
  })
  $effect(() => {
    const timer = setInterval(() => !document.hidden && look++, 5000)
    return () => clearInterval(timer)
  })
  const all = $derived(!!signed.session?.administrator || !!signed.session?.auditor)
  let chosen = $state<Connection | null>(null)
  let asking = $state(false)

  async function end(id: string) {
    asking = false
    try {
      changes.made(await get(api.DELETE('/api/v1/sql-sessions/{name}', { params: { path: { name: id } } })))
    } catch (error) {
      changes.failed(error)
    }
    look++
  }

  const time = (at: string) => shortMomentOf(at)
  const seconds = (c: Connection) => Math.max(0, Math.round((Date.now() - new Date(c.state_since).getTime()) / 1000))
  const columns: Column<Connection>[] = [
    { id: 'who', head: 'Who', class: 'mono', value: (c) => c.user },
    { id: 'as', head: 'Viewing as', class: 'mono', value: (c) => c.standpoint ?? '' },
    { id: 'with', head: 'With', value: (c) => c.client },
    { id: 'database', head: 'Database', class: 'mono', value: (c) => c.database },
    { id: 'from', head: 'From', class: 'mono text-muted', value: (c) => c.address },
    { id: 'tls', head: 'TLS', class: 'text-muted', value: (c) => (c.tls ? 'yes' : 'no') },
    { id: 'since', head: 'Since', class: 'whitespace-nowrap text-muted', value: (c) => time(c.since) },
    { id: 'state', head: 'State', class: 'whitespace-nowrap', value: (c) => c.state },
    { id: 'for', head: 'For', number: true, title: 'Seconds in this state', value: (c) => seconds(c) },
    { id: 'statement', head: 'Statement', class: 'mono w-[30%] max-w-0 min-w-48 truncate', value: (c) => c.statement },
    { id: 'actions', head: 'Actions', controls: true, value: () => '' },
  ]
</script>

{#snippet cell(c: Connection, column: Column<Connection>)}
  {#if column.id === 'actions'}<button
      type="button"
      class="btn py-0 text-sm"
      onclick={() => {
        chosen = c
        asking = true
      }}>End</button
    >
  {:else if column.id === 'state'}<span class={c.state === 'running' ? 'text-epidote' : ''}
      >{c.state === 'running' ? '● ' : ''}{c.state}</span
    >
  {:else if column.id === 'statement'}<span title={c.statement}>{c.statement}</span>
  {:else}{column.value(c)}{/if}
{/snippet}

<p class="mb-3 max-w-prose text-muted">
  People’s own tools, such as <span class="mono">psql</span>, a spreadsheet or a reporting tool, connect to the SQL port
  as themselves.
  {all ? 'These are the connections of everybody.' : 'These are your connections.'} To end one ends what it runs.
</p>
{#if list.problem}<Trouble problem={list.problem} />{/if}
<Grid
  name="Connections"
  {columns}
  rows={list.value?.items ?? []}
  key={(c) => c.id}
  {cell}
  empty="Nobody is connected to the SQL port."
/>

{#if asking && chosen}
  <Modal bind:open={asking} title="End the connection of {chosen.user}">
    <p class="mb-2">
      {chosen.client || 'The program'} from <span class="mono">{chosen.address}</span> is told that its connection was
      ended{chosen.state === 'running' ? ', and its statement is stopped' : ''}.
    </p>
    {#if chosen.statement}<pre
        class="mono panel mb-3 max-h-48 overflow-auto p-2 whitespace-pre-wrap">{chosen.statement}</pre>{/if}
    <div class="flex justify-end gap-2">
      <button type="button" class="btn" onclick={() => (asking = false)}>Cancel</button>
      <button type="button" class="btn btn-main" onclick={() => end(chosen!.id)}>End it</button>
    </div>
  </Modal>
{/if}
