<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { api, get } from '../lib/api'
  import { loaded } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import Trouble from './Trouble.svelte'

  // How many rows of a table each subject sees, and how its columns are shown; of a column, to everyone.
  let { table, columns }: { table: string; columns: string[] } = $props()
  const column = $derived(place.query.get('column') ?? '')
  const matrix = loaded(() =>
    get(api.GET('/api/v1/matrix', { params: { query: { object: column ? `${table}.${column}` : table } } })),
  )
  const tone = (cell: string) =>
    cell === 'in clear' ? 'text-epidote' : cell === 'not readable' ? 'text-garnet' : 'text-feldspar'
  const mark = (cell: string) => (cell === 'in clear' ? '●' : cell === 'not readable' ? '⊘' : '◐')
</script>

<label class="mb-2 flex items-center gap-2 text-muted"
  >Who has access
  <select
    class="field mono w-auto text-ink"
    aria-label="Column to look at"
    value={column}
    onchange={(e) => place.go(place.path, { tab: 'matrix', column: e.currentTarget.value })}
    ><option value="">the rows, and columns that differ</option>{#each columns as c (c)}<option value={c}>{c}</option
      >{/each}</select
  ></label
>
{#if matrix.problem}
  <Trouble problem={matrix.problem} />
{:else if matrix.value}
  {@const m = matrix.value}
  <div class="panel overflow-x-auto" use:scrollable={'What each sees'}>
    <table class="dense">
      <thead
        ><tr
          ><th>Who</th><th class="text-right!">Rows, of {m.total.toLocaleString('en')}</th><th class="w-32"
            ><span class="sr-only">Share</span></th
          >{#each m.columns as c (c)}<th class="mono">{c}</th>{/each}</tr
        ></thead
      >
      <tbody>
        {#each m.rows as r (r.subject)}
          <tr>
            <td class="mono"
              ><a class="hover:underline" href={place.href('/subjects/' + r.subject)} title={r.title}>{r.subject}</a
              ></td
            >
            {#if r.reads}
              <td class="text-right">{r.rows.toLocaleString('en')}</td>
              <td class="align-middle!"
                ><div class="h-1.5 rounded bg-line" aria-hidden="true">
                  <div class="h-1.5 rounded bg-garnet" style="width: {m.total ? (100 * r.rows) / m.total : 0}%"></div>
                </div></td
              >
            {:else}<td class="text-right text-muted" colspan="2">may not read</td>{/if}
            {#each r.cells as cell, i (i)}<td class={tone(cell)}>{mark(cell)} {cell}</td>{/each}
          </tr>
        {:else}<tr><td class="text-muted" colspan="3">Nobody may read it.</td></tr>{/each}
      </tbody>
    </table>
  </div>
  {#if m.more}<p class="mt-1 text-sm text-muted">and {m.more} more.</p>{/if}
{:else}<div class="h-40 animate-pulse rounded bg-raised"></div>{/if}
