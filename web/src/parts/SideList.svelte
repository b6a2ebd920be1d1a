<script lang="ts">
  import type { Snippet } from 'svelte'

  // The list beside a page. Where there is no room beside it, it folds into a button above
  // the page that names what is chosen.
  let { label, chosen, children }: { label: string; chosen: string; children: Snippet } = $props()
  let open = $state(false)
  $effect(() => {
    void chosen
    open = false
  })
  const shown = $derived(open || !chosen)
</script>

<aside
  class="flex min-h-0 flex-col border-r border-line bg-surface max-[900px]:max-h-[55vh] max-[900px]:border-r-0 max-[900px]:border-b"
  aria-label={label}
>
  {#if chosen}
    <button
      type="button"
      class="btn m-2 justify-between min-[900px]:hidden!"
      aria-expanded={shown}
      onclick={() => (open = !open)}
      ><span class="mono truncate">{chosen}</span><span aria-hidden="true">{shown ? '▴' : '▾'}</span></button
    >
  {/if}
  <div class="flex min-h-0 flex-1 flex-col {shown ? '' : 'max-[900px]:hidden'}">
    {@render children()}
  </div>
</aside>
