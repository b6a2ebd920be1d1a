<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { api, get, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { loaded } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
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

  async function lift(name: string, object: string) {
    const place = (what: 'put' | 'lift') =>
      get(
        api.POST('/api/v1/labels/{name}/placements', {
          params: { path: { name } },
          body: { do: what, objects: [object] },
        }),
      )
    try {
      changes.made(await place('lift'), () => place('put'))
    } catch (error) {
      changes.failed(error)
    }
  }
</script>

<div class="mb-3 flex items-center gap-3">
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
</div>
{#if list.problem}<Trouble problem={list.problem} />{/if}
{#if list.value}
  <div class="panel overflow-x-auto" use:scrollable={'Columns'}>
    <table class="dense">
      <thead><tr><th>Column</th><th>Type</th><th>Labels</th><th>Level</th><th>Treated by</th></tr></thead>
      <tbody>
        {#each list.value.items as c (c.column)}
          <tr>
            <td class="mono"
              ><a class="hover:underline" href={place.href('/tables/' + table(c.column), { tab: 'columns' })}
                >{c.column}</a
              ></td
            >
            <td class="text-muted">{c.type}</td>
            <td
              >{#each c.labels as name, i (name)}<span
                  class="chip mr-1"
                  title={c.from[i] === c.column ? 'put on the column' : `from ${c.from[i]}`}
                  >{name}{c.from[i] === c.column ? '' : ' ↑'}{#if admin && c.from[i] === c.column}<button
                      aria-label="Lift {name} from {c.column}"
                      onclick={() => lift(name, c.column)}>×</button
                    >{/if}</span
                >{/each}</td
            >
            <td>{c.level}</td>
            <td
              >{#each c.policies as p (p)}<span class="chip mr-1">{p}</span>{:else}<span class="text-garnet"
                  >◆ no policy</span
                >{/each}</td
            >
          </tr>
        {:else}<tr
            ><td colspan="5" class="p-4 text-muted"
              >{uncovered ? 'Every labelled column is treated by some live policy.' : 'No column has a label.'}</td
            ></tr
          >{/each}
      </tbody>
    </table>
  </div>
{/if}
