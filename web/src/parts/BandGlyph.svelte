<script lang="ts">
  import type { Bands } from '../lib/api'

  // The band glyph: four strata from top to bottom (door, verbs, rows, columns),
  // each full, hatched or empty, so that it reads without colour and at 16 px.
  let { bands, size = 16 }: { bands: Bands; size?: number } = $props()
  const strata = $derived([bands.door, bands.verbs, bands.rows, bands.columns])
  const words = $derived(
    `door ${bands.door}, verbs ${bands.verbs}, rows ${bands.rows}, columns ${bands.columns}: ${bands.says}`,
  )
</script>

<svg
  width={size}
  height={size}
  viewBox="0 0 16 16"
  role="img"
  aria-label={words}
  class="inline-block shrink-0 align-[-0.2em]"
>
  <title>{bands.says}</title>
  {#each strata as state, i (i)}
    {@const y = i * 4}
    {#if state === 'full'}
      <rect x="0" {y} width="16" height="3.2" rx="0.6" fill="currentColor" />
    {:else if state === 'hatched'}
      <rect
        x="0.3"
        y={y + 0.3}
        width="15.4"
        height="2.6"
        rx="0.6"
        fill="none"
        stroke="currentColor"
        stroke-width="0.6"
      />
      {#each [1.5, 5.5, 9.5, 13.5] as x (x)}
        <path d="M{x} {y + 3} l1.6 -2.8" stroke="currentColor" stroke-width="1" />
      {/each}
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
        opacity="0.55"
      />
    {/if}
  {/each}
</svg>
