<script lang="ts">
  // The band glyph in all its states, drawn once, for pages that show thousands of them: #band2210 has a
  // full door, full verbs, some rows and no columns. See BandGlyph for one in words.
  const digits = ['0', '1', '2']
  const codes = digits.flatMap((a) => digits.flatMap((b) => digits.flatMap((c) => digits.map((d) => a + b + c + d))))
</script>

<svg width="0" height="0" class="absolute" aria-hidden="true">
  {#each codes as code (code)}
    <symbol id="band{code}" viewBox="0 0 16 16">
      {#each [...code] as state, i (i)}
        {@const y = i * 4}
        {#if state === '2'}<rect x="0" {y} width="16" height="3.2" rx="0.6" fill="currentColor" />
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
          {#if state === '1'}{#each [1.5, 5.5, 9.5, 13.5] as x (x)}<path
                d="M{x} {y + 3} l1.6 -2.8"
                stroke="currentColor"
                stroke-width="1"
              />{/each}{/if}
        {/if}
      {/each}
    </symbol>
  {/each}
</svg>
