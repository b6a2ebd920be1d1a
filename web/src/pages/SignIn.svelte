<script lang="ts">
  import { api, get, says, type Problem } from '../lib/api'
  import { signed } from '../lib/session.svelte'

  let user = $state('')
  let password = $state('')
  let problem = $state<Problem | null>(null)
  let busy = $state(false)

  async function submit(event: SubmitEvent) {
    event.preventDefault()
    busy = true
    try {
      signed.take(await get(api.POST('/api/v1/session', { body: { user, password } })))
      problem = null
    } catch (error) {
      problem = says(error)
      password = ''
    }
    busy = false
  }
</script>

<main class="grid min-h-screen place-items-center p-4">
  <form class="panel w-80 overflow-hidden" onsubmit={submit}>
    <div class="h-2 bg-ink"></div>
    <div class="h-1.5 bg-line-strong"></div>
    <div class="h-2.5 bg-garnet"></div>
    <div class="h-1 bg-feldspar"></div>
    <div class="flex flex-col gap-3 p-6">
      <h1>Gneiss</h1>
      <p class="text-muted">Who may see and change what in shared tables.</p>
      <label>Account <input class="field mt-1" bind:value={user} name="user" autocomplete="username" required /></label>
      <label
        >Password <input
          class="field mt-1"
          bind:value={password}
          name="password"
          type="password"
          autocomplete="current-password"
          required
        /></label
      >
      {#if problem}<p class="text-garnet" role="alert">⊘ {problem.detail}</p>{/if}
      <button class="btn btn-main justify-center" disabled={busy}>Sign in</button>
    </div>
  </form>
</main>
