<script lang="ts">
  import { tick } from 'svelte'
  import SubjectPicker from './SubjectPicker.svelte'

  // Several subjects as chips, with a picker that adds one more.
  let {
    refs = $bindable([]),
    label,
    empty,
    kinds = [],
  }: { refs: string[]; label: string; empty: string; kinds?: string[] } = $props()
  let next = $state('')
  let host = $state<HTMLElement>()

  function add(ref: string) {
    if (!refs.includes(ref)) refs = [...refs, ref]
    queueMicrotask(() => (next = ''))
    // The picker is recreated; the next one can be typed at once.
    tick().then(() => host?.querySelector('input')?.focus())
  }
</script>

<div class="flex flex-col gap-1" bind:this={host}>
  <div class="flex min-h-6 flex-wrap items-center gap-1">
    {#each refs as ref (ref)}
      <span class="chip"
        >{ref}<button type="button" aria-label="Leave out {ref}" onclick={() => (refs = refs.filter((r) => r !== ref))}
          >×</button
        ></span
      >
    {:else}
      <span class="text-muted">{empty}</span>
    {/each}
  </div>
  {#key refs.length}<SubjectPicker bind:value={next} {label} {kinds} onpick={add} placeholder="add …" />{/key}
</div>
