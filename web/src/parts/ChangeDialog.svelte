<script lang="ts">
  import type { Snippet } from 'svelte'
  import { says, type Changed, type Problem } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import Effects from './Effects.svelte'
  import Modal from './Modal.svelte'
  import Trouble from './Trouble.svelte'

  // A change with its form: what it would do is shown before it is done.
  let {
    open = $bindable(false),
    title,
    verb,
    asked,
    ready = true,
    send,
    undo,
    ondone,
    none,
    sentence = false,
    children,
  }: {
    open: boolean
    title: string
    verb: string
    /** What would be sent, as text: it is tried dry each time that this changes. */
    asked: string
    ready?: boolean
    send: (dry: boolean) => Promise<Changed>
    /** Makes the way back from what is on the form as it is sent. */
    undo?: () => () => Promise<Changed>
    ondone?: (changed: Changed) => void
    none?: string
    /** Shows in words what it would do, too, where the form does not say it. */
    sentence?: boolean
    children?: Snippet
  } = $props()

  let would = $state<Changed | null>(null)
  let problem = $state<Problem | null>(null)
  let busy = $state(false)

  $effect(() => {
    const now = asked
    would = null
    if (!ready) {
      problem = null
      return
    }
    const wait = setTimeout(() => {
      send(true)
        .then((c) => {
          if (now === asked) {
            would = c
            problem = null
          }
        })
        .catch((error) => {
          if (now === asked) problem = says(error)
        })
    }, 150)
    return () => clearTimeout(wait)
  })

  async function submit(event: SubmitEvent) {
    event.preventDefault()
    event.stopPropagation()
    busy = true
    const back = undo?.() // from what is sent, and not from what the form has later
    try {
      const done = await send(false)
      changes.made(done, back)
      open = false
      ondone?.(done)
    } catch (error) {
      problem = says(error)
    }
    busy = false
  }
</script>

<Modal bind:open {title}>
  <form class="flex flex-col gap-3" onsubmit={submit}>
    {@render children?.()}
    {#if problem}<Trouble {problem} />{/if}
    {#if would}
      <section class="rounded border border-line bg-raised p-2" aria-label="What this would do">
        {#if sentence}
          {#each would.says as line, i (i)}<p class="mb-1 first-letter:uppercase">{line}.</p>{/each}
        {:else}<p class="mb-1 text-sm text-muted">What this would change</p>{/if}
        <Effects changed={would} {none} />
      </section>
    {/if}
    <div class="flex justify-end gap-2">
      <button type="button" class="btn" onclick={() => (open = false)}>Cancel</button>
      <button type="submit" class="btn btn-main" disabled={!ready || busy || !would}>{verb}</button>
    </div>
  </form>
</Modal>
