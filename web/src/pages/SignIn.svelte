<script lang="ts">
  import { api, get, says, type Problem } from '../lib/api'
  import { signed } from '../lib/session.svelte'

  let user = $state('')
  let password = $state('')
  let chosen = $state('')
  let given = $state(false) // an administrator has set the password, so its owner chooses another
  let problem = $state<Problem | null>(null)
  let busy = $state(false)

  const focused = (node: HTMLElement) => node.focus()
  async function submit(event: SubmitEvent) {
    event.preventDefault()
    busy = true
    try {
      const body = given ? { user, password, new_password: chosen } : { user, password }
      signed.take(await get(api.POST('/api/v1/session', { body })))
      problem = null
    } catch (error) {
      const told = says(error)
      if (told.code === 'password_given') {
        given = true
        problem = null
      } else {
        problem = told
        if (!given) password = ''
        chosen = ''
      }
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
      <label
        >Account <input
          class="field mt-1"
          bind:value={user}
          name="user"
          autocomplete="username"
          required
          readonly={given}
        /></label
      >
      <label
        >Password <input
          class="field mt-1"
          bind:value={password}
          name="password"
          type="password"
          autocomplete="current-password"
          required
          readonly={given}
        /></label
      >
      {#if given}
        <p role="status">An administrator has set this password. Choose your own to go on.</p>
        <label
          >New password <input
            class="field mt-1"
            bind:value={chosen}
            use:focused
            name="new-password"
            type="password"
            autocomplete="new-password"
            minlength="8"
            required
          /></label
        >
      {/if}
      {#if problem}<p class="text-garnet" role="alert">⊘ {problem.detail}</p>{/if}
      <button type="submit" class="btn btn-main justify-center" disabled={busy}
        >{given ? 'Set it and sign in' : 'Sign in'}</button
      >
    </div>
  </form>
</main>
