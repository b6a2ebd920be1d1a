<script lang="ts">
  import { api, get, says, type Problem } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { place } from '../lib/place.svelte'
  import Modal from './Modal.svelte'
  import Trouble from './Trouble.svelte'

  let { open = $bindable(false), kinds, base }: { open: boolean; kinds: string[]; base: string } = $props()
  /* svelte-ignore state_referenced_locally */
  let kind = $state(kinds[0]!)
  let name = $state('')
  let title = $state('')
  let password = $state('')
  let problem = $state<Problem | null>(null)

  async function submit(event: SubmitEvent) {
    event.preventDefault()
    const subject = `${kind}:${name}`
    try {
      changes.made(
        await get(api.POST('/api/v1/subjects', { body: { subject, title, password: password || undefined } })),
        () => get(api.DELETE('/api/v1/subjects/{name}', { params: { path: { name: subject } } })),
      )
      open = false
      place.go(`${base}/${subject}`)
    } catch (error) {
      problem = says(error)
    }
  }
</script>

<Modal bind:open title="Add a {kinds.length > 1 ? 'subject' : kind}">
  <form class="flex flex-col gap-3" onsubmit={submit}>
    {#if kinds.length > 1}
      <div class="flex gap-4">
        {#each kinds as k (k)}<label class="flex items-center gap-1.5"
            ><input type="radio" bind:group={kind} value={k} /> {k}</label
          >{/each}
      </div>
    {/if}
    <label class="text-sm text-muted"
      >Name <input class="field mono text-ink" bind:value={name} name="name" required /></label
    >
    <label class="text-sm text-muted"
      >Title <input
        class="field text-ink"
        bind:value={title}
        name="title"
        placeholder="a few words for people"
      /></label
    >
    {#if kind === 'user' || kind === 'service'}
      <label class="text-sm text-muted"
        >Password <input
          class="field text-ink"
          type="password"
          bind:value={password}
          autocomplete="new-password"
        /></label
      >
    {/if}
    {#if problem}<Trouble {problem} />{/if}
    <div class="flex justify-end gap-2">
      <button type="button" class="btn" onclick={() => (open = false)}>Cancel</button>
      <button type="submit" class="btn btn-main">Add</button>
    </div>
  </form>
</Modal>
