<script lang="ts">
  import type { Schemas } from '../lib/api'

  // What a policy would do if it were live: whose rows and columns would change.
  let { trial }: { trial: Schemas['WireTrialResult'] | null } = $props()
  const tables = $derived(new Set(trial?.counts.map((c) => c.table)))
</script>

<section aria-label="Live counts" aria-live="polite" class="flex min-w-0 flex-col gap-2">
  {#if !trial}
    <p class="text-sm text-muted">What it would do is counted here as soon as it is complete.</p>
  {:else}
    <p class="rounded bg-raised p-2">{trial.sentence}.</p>
    {#each trial.notes as note, i (i)}<p class="border-l-2 border-feldspar pl-2 text-sm">{note}.</p>{/each}
    {#if trial.counts.length}
      <table class="dense text-sm">
        <thead
          ><tr
            ><th>Who</th><th class="text-right!">Rows now</th><th class="text-right!">Then</th><th class="text-right!"
              >Of</th
            ></tr
          ></thead
        >
        <tbody>
          {#each trial.counts as c (c.standpoint + c.table)}
            <tr title={c.problem}>
              <td class="mono"
                >{c.standpoint}{#if tables.size > 1}<br /><span class="text-xs text-muted">{c.table}</span
                  >{/if}{#each c.columns as column (column)}<span class="block font-sans text-sm text-feldspar"
                    >◐ {column}</span
                  >{/each}</td
              >
              {#if c.problem}<td colspan="3" class="text-right text-muted">⊘ no access</td>
              {:else}
                <td class="text-right">{c.now.toLocaleString('en')}</td>
                <td
                  class="text-right whitespace-nowrap {c.then > c.now
                    ? 'font-semibold text-epidote'
                    : c.then < c.now
                      ? 'font-semibold text-garnet'
                      : ''}">{c.then > c.now ? '▲ ' : c.then < c.now ? '▼ ' : ''}{c.then.toLocaleString('en')}</td
                >
                <td class="text-right text-muted">{c.total.toLocaleString('en')}</td>
              {/if}
            </tr>
          {/each}
        </tbody>
      </table>
      {#if trial.more}<p class="text-sm text-muted">and {trial.more} more, who are not counted here.</p>{/if}
    {:else}<p class="text-sm text-muted">It would change nothing for anyone.</p>{/if}
  {/if}
</section>
