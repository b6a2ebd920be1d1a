<script lang="ts">
  import { api, get, type Schemas } from '../lib/api'
  import type { Column } from '../lib/grid'
  import { loaded } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
  import ChangeButton from './ChangeButton.svelte'
  import Grid from './Grid.svelte'
  import Trouble from './Trouble.svelte'

  // The columns that have labels, and whether a policy treats them.
  let { labels }: { labels: Schemas['WireLabel'][] } = $props()
  const label = $derived(place.query.get('label') ?? '')
  const uncovered = $derived(place.query.get('uncovered') === 'true')
  const list = loaded(() =>
    get(api.GET('/api/v1/labelled-columns', { params: { query: { label: label || undefined, uncovered } } })),
  )
  const admin = $derived(!!signed.session?.administrator)
  const table = (column: string) => column.slice(0, column.lastIndexOf('.'))
  const go = (more: Record<string, string>) =>
    place.go('/labels/columns', { label, uncovered: uncovered ? 'true' : '', ...more })

  const put = (what: 'put' | 'lift', name: string, object: string, dry: boolean) =>
    get(
      api.POST('/api/v1/labels/{name}/placements', {
        params: { path: { name } },
        body: { do: what, objects: [object], dry_run: dry || undefined },
      }),
    )

  type Labelled = NonNullable<typeof list.value>['items'][number]
  const columns: Column<Labelled>[] = [
    { id: 'column', head: 'Column', class: 'mono', value: (c) => c.column },
    { id: 'type', head: 'Type', class: 'text-muted', value: (c) => c.type },
    { id: 'labels', head: 'Labels', value: (c) => c.labels.join(', ') },
    { id: 'level', head: 'Level', value: (c) => c.level },
    { id: 'policies', head: 'Treated by', value: (c) => c.policies.join(', ') || 'no policy' },
  ]
</script>

{#snippet tools()}
  <select class="field w-auto" aria-label="Label" value={label} onchange={(e) => go({ label: e.currentTarget.value })}
    ><option value="">every label</option>{#each labels as l (l.name)}<option value={l.name}>{l.path}</option
      >{/each}</select
  >
  <label class="flex items-center gap-1.5"
    ><input
      type="checkbox"
      checked={uncovered}
      onchange={(e) => go({ uncovered: e.currentTarget.checked ? 'true' : '' })}
    /> only what no live policy treats</label
  >
{/snippet}
{#snippet cell(c: Labelled, col: Column<Labelled>)}
  {#if col.id === 'column'}
    <a class="hover:underline" href={place.href('/tables/' + table(c.column), { tab: 'columns' })}>{c.column}</a>
  {:else if col.id === 'labels'}
    {#each c.labels as name, i (name)}<span
        class="chip mr-1"
        title={c.from[i] === c.column ? 'put on the column' : `from ${c.from[i]}`}
        >{name}{c.from[i] === c.column ? '' : ' ↑'}{#if admin && c.from[i] === c.column}<ChangeButton
            title="Lift {name} from {c.column}"
            verb="Lift"
            label="Lift {name} from {c.column}"
            class=""
            none="Nobody gains or loses anything by it now."
            send={(dry) => put('lift', name, c.column, dry)}
            undo={() => () => put('put', name, c.column, false)}>×</ChangeButton
          >{/if}</span
      >{/each}
  {:else if col.id === 'policies'}
    {#each c.policies as p (p)}<span class="chip mr-1">{p}</span>{:else}<span class="text-garnet">◆ no policy</span
      >{/each}
  {:else}{col.value(c)}{/if}
{/snippet}
{#if list.problem}<Trouble problem={list.problem} />{/if}
{#if list.value}
  <Grid
    name="Columns with labels"
    {columns}
    rows={list.value.items}
    key={(c) => c.column}
    {cell}
    {tools}
    tall="max-h-[calc(100vh-16rem)]"
    empty={uncovered ? 'Every labelled column is treated by some live policy.' : 'No column has a label.'}
  />
{/if}
