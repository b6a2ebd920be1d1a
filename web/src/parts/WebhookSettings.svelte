<script lang="ts">
  import { shortMomentOf } from '../lib/dates'
  import type { Column } from '../lib/grid'
  import { api, get, says, type Problem, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { loaded } from '../lib/load.svelte'
  import ChangeButton from './ChangeButton.svelte'
  import Grid from './Grid.svelte'
  import Modal from './Modal.svelte'
  import Trouble from './Trouble.svelte'

  // Where other systems are told of what happens. How deliveries fare changes by itself, so that they
  // are looked at again from time to time.
  type Webhook = Schemas['WireWebhook']
  const topics: [string, string][] = [
    ['revision', 'Revisions: each change that takes effect'],
    ['draft', 'Drafts: opened, published, dropped'],
    ['check', 'Checks: an access test or guardrail that fails, or holds again'],
    ['request', 'Requests: somebody asks for access, and what becomes of it'],
    ['review', 'Reviews: opened, closed and signed'],
  ]
  let look = $state(0)
  const list = loaded(() => {
    void look
    return get(api.GET('/api/v1/webhooks', {}))
  })
  $effect(() => {
    const timer = setInterval(() => !document.hidden && look++, 5000)
    return () => clearInterval(timer)
  })
  let open = $state(false)
  let edited = $state<Webhook | null>(null)
  let name = $state('')
  let url = $state('')
  let chosen = $state<string[]>([])
  let problem = $state<Problem | null>(null)
  let secret = $state('')
  let tried = $state<Record<string, string>>({})

  function start(w: Webhook | null) {
    edited = w
    name = w?.name ?? ''
    url = secret = ''
    chosen = w?.topics ?? topics.map(([topic]) => topic)
    problem = null
    open = true
  }

  async function put(body: Schemas['WireWebhookRequest']) {
    const made = await get(api.POST('/api/v1/webhooks', { body }))
    look++
    return made.secret ?? ''
  }

  async function keep(event: SubmitEvent) {
    event.preventDefault()
    try {
      secret = await put({ name, url: url || undefined, topics: chosen, replace: !!edited, status: edited?.status })
      if (!secret) open = false
    } catch (error) {
      problem = says(error)
    }
  }

  async function toggle(w: Webhook) {
    try {
      await put({ name: w.name, replace: true, status: w.status === 'active' ? 'stopped' : 'active' })
    } catch (error) {
      changes.failed(error)
    }
  }

  async function attempt(w: Webhook) {
    tried = { ...tried, [w.name]: 'trying …' }
    try {
      const out = await get(api.POST('/api/v1/webhooks/{name}/try', { params: { path: { name: w.name } } }))
      tried = { ...tried, [w.name]: out.delivered ? `delivered, answered with ${out.status}` : (out.trouble ?? '') }
    } catch (error) {
      tried = { ...tried, [w.name]: says(error).detail }
    }
  }

  const remove = (name: string, dry: boolean) =>
    get(api.DELETE('/api/v1/webhooks/{name}', { params: { path: { name }, query: { dry_run: dry } } }))

  const time = (at?: string | null) => shortMomentOf(at)
  const columns: Column<Webhook>[] = [
    { id: 'name', head: 'Webhook', class: 'mono font-semibold', value: (w) => w.name },
    { id: 'to', head: 'To', class: 'mono', value: (w) => w.url },
    { id: 'topics', head: 'Topics', value: (w) => w.topics.join(', ') },
    { id: 'status', head: 'Status', class: 'whitespace-nowrap', value: (w) => w.status },
    { id: 'last', head: 'Last delivered', class: 'whitespace-nowrap text-muted', value: (w) => time(w.delivered) },
    { id: 'waiting', head: 'Waiting', number: true, value: (w) => w.waiting },
    { id: 'trouble', head: 'Trouble', value: (w) => tried[w.name] ?? w.trouble ?? '' },
    { id: 'actions', head: 'Actions', controls: true, value: () => '' },
  ]
</script>

{#snippet cell(w: Webhook, column: Column<Webhook>)}
  {#if column.id === 'actions'}<span class="flex gap-1">
      <button type="button" class="btn py-0 text-sm" onclick={() => attempt(w)}>Try</button>
      <button type="button" class="btn py-0 text-sm" onclick={() => start(w)}>Edit</button>
      <button type="button" class="btn py-0 text-sm" onclick={() => toggle(w)}
        >{w.status === 'active' ? 'Stop' : 'Resume'}</button
      >
      <ChangeButton
        title="Remove the webhook {w.name}"
        verb="Remove"
        none="Nobody’s access changes. What waits to be delivered to it is dropped."
        send={(dry) => remove(w.name, dry)}
        ondone={() => look++}
      />
    </span>
  {:else if column.id === 'status'}<span
      class={w.failures ? 'text-garnet' : w.status === 'active' ? 'text-epidote' : ''}
      >{w.failures ? `⊘ failing (${w.failures})` : w.status === 'active' ? '● active' : 'stopped'}</span
    >
  {:else if column.id === 'trouble' && w.next && !tried[w.name]}{w.trouble}; tried again at {new Date(
      w.next,
    ).toLocaleTimeString('sv')}
  {:else}{column.value(w)}{/if}
{/snippet}

<div class="mb-3 flex items-start gap-3">
  <p class="max-w-prose text-muted">
    A webhook tells another system, such as a chat or a ticket system, of what happens here: by a signed request for
    each event. What cannot be delivered is tried again for three days.
  </p>
  <button type="button" class="btn ml-auto" onclick={() => start(null)}>Add webhook</button>
</div>
{#if list.problem}<Trouble problem={list.problem} />{/if}
<Grid
  name="Webhooks"
  {columns}
  rows={list.value?.items ?? []}
  key={(w) => w.name}
  {cell}
  empty="No other system is told of anything."
/>

{#if open}
  <Modal bind:open title={edited ? 'Edit the webhook ' + edited.name : 'Add a webhook'}>
    {#if secret}
      <p class="mb-2">The key of its signatures, in base64. It is shown this once.</p>
      <p class="mono panel mb-3 p-2 break-all select-all">{secret}</p>
      <div class="flex justify-end gap-2">
        <button type="button" class="btn" onclick={() => navigator.clipboard.writeText(secret)}>Copy</button>
        <button type="button" class="btn btn-main" onclick={() => (open = false)}>Done</button>
      </div>
    {:else}
      <form class="flex flex-col gap-3" onsubmit={keep}>
        {#if !edited}<label class="text-sm text-muted"
            >Name <input class="field text-ink" bind:value={name} name="name" placeholder="chat" required /></label
          >{/if}
        <label class="text-sm text-muted"
          >URL <input
            class="field w-full text-ink"
            bind:value={url}
            name="url"
            type="url"
            placeholder={edited ? 'unchanged' : 'https://chat.example/hooks/gneiss'}
            required={!edited}
          /></label
        >
        <fieldset class="flex flex-col gap-1">
          <legend class="text-sm text-muted">Topics</legend>
          {#each topics as [topic, says] (topic)}
            <label><input type="checkbox" value={topic} bind:group={chosen} /> {says}</label>
          {/each}
        </fieldset>
        {#if problem}<Trouble {problem} />{/if}
        <div class="flex justify-end gap-2">
          <button type="button" class="btn" onclick={() => (open = false)}>Cancel</button>
          <button type="submit" class="btn btn-main" disabled={chosen.length === 0}
            >{edited ? 'Change it' : 'Add it'}</button
          >
        </div>
      </form>
    {/if}
  </Modal>
{/if}
