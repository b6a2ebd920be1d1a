<script lang="ts">
  import Strata from './Strata.svelte'

  // The band glyph in all its states, drawn once, for pages that show thousands of them: #band2210 has a
  // full door, full verbs, some rows and no columns. See BandGlyph for one in words.
  const digits = ['0', '1', '2']
  const codes = digits.flatMap((a) => digits.flatMap((b) => digits.flatMap((c) => digits.map((d) => a + b + c + d))))
</script>

<svg width="0" height="0" class="absolute" aria-hidden="true">
  {#each codes as code (code)}
    <symbol id="band{code}" viewBox="0 0 16 16">
      <Strata {code} />
    </symbol>
  {/each}
</svg>
