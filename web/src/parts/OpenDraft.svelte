<script lang="ts">
  import { api, get, says, type Problem } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { place } from '../lib/place.svelte'
  import Modal from './Modal.svelte'
  import Trouble from './Trouble.svelte'

  let { open = $bindable(false) }: { open: boolean } = $props()
  let name = $state('')
  let reason = $state('')
  let problem = $state<Problem | null>(null)

  async function submit(event: SubmitEvent) {
    event.preventDefault()
    try {
      changes.made(await get(api.POST('/api/v1/drafts', { body: { name, reason: reason || undefined } })))
      open = false
      place.look({ draft: name.trim().toLowerCase(), at: '' })
    } catch (error) {
      problem = says(error)
    }
  }
</script>

<Modal bind:open title="Open a draft">
  <form class="flex flex-col gap-3" onsubmit={submit}>
    <p class="text-muted">
      What you change from then on goes into the draft, and takes effect when that is published. Every page shows what
      would be.
    </p>
    <label class="text-sm text-muted"
      >Name <input class="field mono text-ink" bind:value={name} required placeholder="portal-2027" /></label
    >
    <label class="text-sm text-muted"
      >Why <input class="field text-ink" bind:value={reason} placeholder="partners see depths" /></label
    >
    {#if problem}<Trouble {problem} />{/if}
    <div class="flex justify-end gap-2">
      <button type="button" class="btn" onclick={() => (open = false)}>Cancel</button>
      <button type="submit" class="btn btn-main">Open</button>
    </div>
  </form>
</Modal>
