<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import type { Changed } from '../lib/api'

  // What a change does, or would do, to whom.
  let {
    changed,
    none = 'Nobody’s access changes.',
    short = false,
  }: { changed: Changed; none?: string; short?: boolean } = $props()
  const lines = $derived(
    changed.effects.flatMap((e) => [
      ...e.gains.map((what) => ({ who: e.subject, what, gain: true })),
      ...e.loses.map((what) => ({ who: e.subject, what, gain: false })),
    ]),
  )
</script>

{#if lines.length === 0}
  <p class="text-muted">{none}</p>
{:else}
  <ul class="overflow-y-auto text-sm {short ? 'max-h-20' : 'max-h-48'}" use:scrollable={'Effects'}>
    {#each lines.slice(0, 60) as line, i (i)}
      <li class="flex gap-2 py-0.5">
        <span class="w-14 shrink-0 font-medium {line.gain ? 'text-epidote' : 'text-garnet'}"
          >{line.gain ? '+ gains' : '− loses'}</span
        >
        <span class="mono shrink-0">{line.who}</span><span>{line.what}</span>
      </li>
    {/each}
    {#if lines.length > 60}<li class="text-muted">and {lines.length - 60} more</li>{/if}
    {#if changed.more}<li class="text-muted">… and more than can be listed</li>{/if}
  </ul>
{/if}
{#each changed.notes as note, i (i)}
  <p class="mt-1 rounded bg-feldspar-wash px-2 py-1 text-sm"><span aria-hidden="true">◆</span> Note: {note}</p>
{/each}
