<script lang="ts">
  import { api, get, says, type Problem, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import Trouble from './Trouble.svelte'

  // Asks to be given something: what a refusal lacked, or a privilege on an object by its path, which
  // need not be one that is seen.
  let {
    reference = '',
    object = '',
    onasked,
  }: { reference?: string; object?: string; onasked?: (r: Schemas['WireRequested']) => void } = $props()
  let privilege = $state('SELECT')
  // svelte-ignore state_referenced_locally
  let path = $state(object)
  let reason = $state('')
  let problem = $state<Problem | null>(null)
  let made = $state<Schemas['WireRequested'] | null>(null)

  async function ask(event: SubmitEvent) {
    event.preventDefault()
    event.stopPropagation() // it may stand in another form, which is not sent with it
    try {
      made = await get(
        api.POST('/api/v1/requests', {
          body: reference ? { reference, reason } : { privilege, object: path, reason },
        }),
      )
      problem = null
      reason = path = ''
      changes.count++
      onasked?.(made)
    } catch (error) {
      problem = says(error)
    }
  }
</script>

<form class="flex flex-wrap items-end gap-3" onsubmit={ask}>
  {#if !reference}
    <label class="text-sm text-muted"
      >Privilege <select class="field w-32 text-ink" bind:value={privilege}>
        {#each ['SELECT', 'INSERT', 'UPDATE', 'DELETE', 'EXECUTE', 'DESCRIBE'] as p (p)}<option>{p}</option>{/each}
      </select></label
    >
    <label class="min-w-56 flex-1 text-sm text-muted"
      >On <input
        class="field mono w-full text-ink"
        bind:value={path}
        placeholder="survey.assay.results"
        required
      /></label
    >
  {/if}
  <label class="min-w-56 flex-1 text-sm text-muted"
    >Why <input
      class="field w-full text-ink"
      bind:value={reason}
      placeholder="results for the spring report"
      maxlength="2000"
      required
    /></label
  >
  <button type="submit" class="btn btn-main">Ask</button>
</form>
{#if made}<p class="mt-2 text-sm text-epidote" role="status">
    ● Asked for {made.asks}, as request {made.number}. You will find the answer on the page Requests.
  </p>{/if}
{#if problem}<div class="mt-2"><Trouble {problem} asks={false} /></div>{/if}
