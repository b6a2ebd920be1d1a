<script lang="ts">
  import { api, get, type Schemas } from '../lib/api'
  import { loaded } from '../lib/load.svelte'
  import type { Column } from '../lib/grid'
  import { place } from '../lib/place.svelte'
  import Grid from './Grid.svelte'
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

  type Row = Schemas['WireMatrix']['rows'][number]
  const grid = $derived<Column<Row>[]>([
    { id: 'who', head: 'Who', class: 'mono', value: (r) => r.subject },
    {
      id: 'rows',
      head: `Rows, of ${(matrix.value?.total ?? 0).toLocaleString('en')}`,
      number: true,
      value: (r) => (r.reads ? r.rows : null),
    },
    { id: 'share', head: 'Share', controls: true, value: () => '' },
    ...(matrix.value?.columns ?? []).map((c, i) => ({
      id: `column ${c}`,
      head: c,
      class: 'max-w-52 truncate',
      value: (r: Row) => r.cells[i],
    })),
  ])
</script>

{#snippet cell(r: Row, c: Column<Row>)}
  {#if c.id === 'who'}<a class="hover:underline" href={place.href('/subjects/' + r.subject)} title={r.title}
      >{r.subject}</a
    >
  {:else if c.id === 'rows'}{#if r.reads}{r.rows.toLocaleString('en')}{:else}<span class="text-muted">may not read</span
      >{/if}
  {:else if c.id === 'share'}{#if r.reads}<div class="mt-1.5 h-1.5 w-28 rounded bg-line" aria-hidden="true">
        <div
          class="h-1.5 rounded bg-garnet"
          style="width: {matrix.value?.total ? (100 * r.rows) / matrix.value.total : 0}%"
        ></div>
      </div>{/if}
  {:else}{@const shown = String(c.value(r) ?? '')}<span class={tone(shown)} title={shown}
      >{shown && mark(shown)} {shown}</span
    >{/if}
{/snippet}

<label class="mb-2 flex items-center gap-2 text-muted"
  >Look at
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
  <Grid
    name="What each sees of {table}"
    columns={grid}
    rows={matrix.value.rows}
    key={(r) => r.subject}
    {cell}
    empty="Nobody may read it."
  />
  {#if matrix.value.more}<p class="mt-1 text-sm text-muted">and {matrix.value.more} more.</p>{/if}
{:else}<div class="h-40 animate-pulse rounded bg-raised"></div>{/if}
