<script lang="ts">
  import { dayOf, endOf, momentOf } from '../lib/dates'
  import type { Column } from '../lib/grid'
  import { api, get, says, type Problem, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { loaded } from '../lib/load.svelte'
  import { signed } from '../lib/session.svelte'
  import Modal from './Modal.svelte'
  import Grid from './Grid.svelte'
  import SubjectPicker from './SubjectPicker.svelte'
  import Trouble from './Trouble.svelte'

  // One's own password, sessions and tokens; for administrators those of others.
  let of = $state('')
  const list = loaded(() => get(api.GET('/api/v1/tokens', { params: { query: { subject: of || undefined } } })))
  const admin = $derived(!!signed.session?.administrator)
  let old = $state('')
  let next = $state('')
  let again = $state('')
  let problem = $state<Problem | null>(null)
  let adding = $state(false)
  let name = $state('')
  let until = $state('')
  let made = $state<Schemas['WireNewToken'] | null>(null)
  let refused = $state<Problem | null>(null)

  async function changePassword(event: SubmitEvent) {
    event.preventDefault()
    try {
      changes.made(await get(api.POST('/api/v1/password', { body: { old, new: next } })))
      old = next = again = ''
      problem = null
    } catch (error) {
      problem = says(error)
    }
  }

  async function add(event: SubmitEvent) {
    event.preventDefault()
    try {
      made = await get(
        api.POST('/api/v1/tokens', {
          body: {
            name,
            subject: of || undefined,
            expires: endOf(until),
          },
        }),
      )
      changes.count++
      refused = null
    } catch (error) {
      refused = says(error)
    }
  }

  async function end(id: string) {
    try {
      changes.made(await get(api.DELETE('/api/v1/tokens/{name}', { params: { path: { name: id } } })))
    } catch (error) {
      changes.failed(error)
    }
  }

  function start() {
    made = null
    name = until = ''
    adding = true
  }

  type Token = NonNullable<typeof list.value>['items'][number]
  const columns: Column<Token>[] = [
    { id: 'for', head: 'What for', class: 'font-semibold', value: (t) => t.name || (t.session ? 'console' : '') },
    { id: 'account', head: 'Account', class: 'mono', value: (t) => t.subject },
    { id: 'kind', head: 'Kind', value: (t) => (t.session ? 'session' : 'token') + (t.current ? ', this one' : '') },
    { id: 'since', head: 'Since', class: 'text-muted', value: (t) => dayOf(t.created) },
    { id: 'until', head: 'Until', class: 'text-muted', value: (t) => momentOf(t.expires) },
    { id: 'id', head: 'Id', class: 'mono text-muted', value: (t) => t.id },
    { id: 'actions', head: 'Actions', controls: true, value: () => '' },
  ]
</script>

{#snippet cell(t: Token, c: Column<Token>)}
  {#if c.id !== 'actions'}{c.value(t)}
  {:else if !t.current}<button type="button" class="btn py-0 text-sm" onclick={() => end(t.id)}>End</button>{/if}
{/snippet}

<h2 class="mb-2">Password</h2>
<form class="mb-6 flex flex-wrap items-end gap-3" onsubmit={changePassword}>
  <label class="text-sm text-muted"
    >Old <input
      class="field text-ink"
      type="password"
      bind:value={old}
      autocomplete="current-password"
      required
    /></label
  >
  <label class="text-sm text-muted"
    >New <input
      class="field text-ink"
      type="password"
      bind:value={next}
      autocomplete="new-password"
      minlength="8"
      required
    /></label
  >
  <label class="text-sm text-muted"
    >New again <input
      class="field text-ink"
      type="password"
      bind:value={again}
      autocomplete="new-password"
      required
    /></label
  >
  <button type="submit" class="btn btn-main" disabled={!next || next !== again}>Change it</button>
  {#if again && next !== again}<span class="text-garnet">the two new ones are not the same</span>{/if}
</form>
{#if problem}<div class="mb-4"><Trouble {problem} /></div>{/if}

<div class="mb-2 flex flex-wrap items-center gap-3">
  <h2>Sessions and tokens</h2>
  {#if admin}
    <span class="text-sm text-muted">of</span>
    <span class="w-56"
      ><SubjectPicker bind:value={of} kinds={['user', 'service']} label="Tokens of" placeholder="yourself" /></span
    >
    {#if of}<button type="button" class="btn" onclick={() => (of = '')}>Your own</button>{/if}
  {/if}
  <button type="button" class="btn ml-auto" onclick={start}>New token</button>
</div>
{#if list.problem}<Trouble problem={list.problem} />{/if}
<Grid
  name="Sessions and tokens"
  {columns}
  rows={list.value?.items ?? []}
  key={(t) => t.id}
  {cell}
  empty="No sessions and no tokens."
/>

{#if adding}
  <Modal bind:open={adding} title="New token of {of || signed.session?.user}">
    {#if made}
      <p class="mb-2">
        It is shown this once. Whoever has it acts as <span class="mono">{made.subject}</span> until {made.expires.slice(
          0,
          10,
        )}.
      </p>
      <p class="mono panel mb-3 p-2 break-all select-all">{made.secret}</p>
      <div class="flex justify-end gap-2">
        <button type="button" class="btn" onclick={() => navigator.clipboard.writeText(made!.secret)}>Copy</button>
        <button type="button" class="btn btn-main" onclick={() => (adding = false)}>Done</button>
      </div>
    {:else}
      <form class="flex flex-col gap-3" onsubmit={add}>
        <label class="text-sm text-muted"
          >What for <input
            class="field text-ink"
            bind:value={name}
            name="name"
            placeholder="nightly export"
            required
          /></label
        >
        <label class="text-sm text-muted"
          >Until <input class="field text-ink" type="date" bind:value={until} /> (in 90 days when not given; a year at the
          most)</label
        >
        {#if refused}<Trouble problem={refused} />{/if}
        <div class="flex justify-end gap-2">
          <button type="button" class="btn" onclick={() => (adding = false)}>Cancel</button>
          <button type="submit" class="btn btn-main">Make it</button>
        </div>
      </form>
    {/if}
  </Modal>
{/if}
