<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { api, get, says, type Problem, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { loaded } from '../lib/load.svelte'
  import { signed } from '../lib/session.svelte'
  import Modal from './Modal.svelte'
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
            expires: until ? new Date(until + 'T00:00').toISOString() : undefined,
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
</script>

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
  <button class="btn btn-main" disabled={!next || next !== again}>Change it</button>
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
    {#if of}<button class="btn" onclick={() => (of = '')}>Your own</button>{/if}
  {/if}
  <button class="btn ml-auto" onclick={start}>New token</button>
</div>
{#if list.problem}<Trouble problem={list.problem} />{/if}
<div class="panel overflow-x-auto" use:scrollable={'Tokens'}>
  <table class="dense">
    <thead
      ><tr
        ><th>What for</th><th>Account</th><th>Kind</th><th>Since</th><th>Until</th><th>Id</th><th class="w-0"
          ><span class="sr-only">Actions</span></th
        ></tr
      ></thead
    >
    <tbody>
      {#each list.value?.items ?? [] as t (t.id)}
        <tr>
          <td class="font-semibold">{t.name || (t.session ? 'console' : '')}</td>
          <td class="mono">{t.subject}</td>
          <td>{t.session ? 'session' : 'token'}{t.current ? ', this one' : ''}</td>
          <td class="text-muted">{t.created.slice(0, 10)}</td>
          <td class="text-muted">{t.expires.slice(0, 16).replace('T', ' ')}</td>
          <td class="mono text-muted">{t.id}</td>
          <td
            >{#if !t.current}<button class="btn py-0 text-sm" onclick={() => end(t.id)}>End</button>{/if}</td
          >
        </tr>
      {:else}
        <tr><td colspan="7" class="text-muted">No sessions and no tokens.</td></tr>
      {/each}
    </tbody>
  </table>
</div>

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
        <button class="btn" onclick={() => navigator.clipboard.writeText(made!.secret)}>Copy</button>
        <button class="btn btn-main" onclick={() => (adding = false)}>Done</button>
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
          <button class="btn btn-main">Make it</button>
        </div>
      </form>
    {/if}
  </Modal>
{/if}
