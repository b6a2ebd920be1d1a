<script lang="ts">
  // The four strata of the band glyph within 16 by 16, from top to bottom: door, verbs, rows, columns, each
  // full (2), hatched (1) or empty (0), as in 2110.
  let { code }: { code: string } = $props()
</script>

{#each [...code] as state, i (i)}
  {@const y = i * 4}
  {#if state === '2'}
    <rect x="0" {y} width="16" height="3.2" rx="0.6" fill="currentColor" />
  {:else}
    <rect
      x="0.3"
      y={y + 0.3}
      width="15.4"
      height="2.6"
      rx="0.6"
      fill="none"
      stroke="currentColor"
      stroke-width="0.6"
      opacity={state === '0' ? 0.55 : 1}
    />
    {#if state === '1'}
      {#each [1.5, 5.5, 9.5, 13.5] as x (x)}
        <path d="M{x} {y + 3} l1.6 -2.8" stroke="currentColor" stroke-width="1" />
      {/each}
    {/if}
  {/if}
{/each}
