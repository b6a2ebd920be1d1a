<script lang="ts">
  import type { Bands } from '../lib/api'
  import Strata from './Strata.svelte'

  // The band glyph: four strata from top to bottom (door, verbs, rows, columns),
  // each full, hatched or empty, so that it reads without colour and at 16 px.
  let { bands, size = 16 }: { bands: Bands; size?: number } = $props()
  const digits = { full: '2', hatched: '1', empty: '0' }
  const code = $derived([bands.door, bands.verbs, bands.rows, bands.columns].map((state) => digits[state]).join(''))
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
  <Strata {code} />
</svg>
