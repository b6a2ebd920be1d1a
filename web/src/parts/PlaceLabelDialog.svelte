<script lang="ts">
  import { api, get } from '../lib/api'
  import ChangeDialog from './ChangeDialog.svelte'
  import ObjectPicker from './ObjectPicker.svelte'

  // Puts a label on columns, tables or schemas.
  let {
    open = $bindable(false),
    label,
    objects: given = [],
  }: { open: boolean; label: string; objects?: string[] } = $props()
  /* svelte-ignore state_referenced_locally */
  let objects = $state<string[]>(given)
  let columns = $state<{ of: string; names: string[] }>({ of: '', names: [] })

  const send = (what: 'put' | 'lift', objects: string[], dry: boolean) =>
    get(
      api.POST('/api/v1/labels/{name}/placements', {
        params: { path: { name: label } },
        body: { do: what, objects, dry_run: dry || undefined },
      }),
    )
  function toggle(path: string) {
    objects = objects.includes(path) ? objects.filter((o) => o !== path) : [...objects, path]
  }
  async function pick(path: string, kind: string) {
    toggle(path)
    columns = { of: '', names: [] }
    if (kind !== 'table') return
    const page = await get(api.GET('/api/v1/object', { params: { query: { path } } })).catch(() => null)
    if (page) columns = { of: path, names: page.columns.map((c) => c.name) }
  }
</script>

<ChangeDialog
  bind:open
  title="Put label:{label} on …"
  verb="Put"
  asked={JSON.stringify(objects)}
  ready={objects.length > 0}
  send={(dry) => send('put', $state.snapshot(objects), dry)}
  undo={() => {
    const put = $state.snapshot(objects)
    return () => send('lift', put, false)
  }}
  none="Nobody gains or loses anything by it now."
>
  <div class="flex min-h-6 flex-wrap gap-1">
    {#each objects as o (o)}<span class="chip"
        >{o}<button type="button" aria-label="Leave out {o}" onclick={() => toggle(o)}>×</button></span
      >{:else}<span class="text-muted">A source, schema or table; of a table, choose its columns below.</span>{/each}
  </div>
  <ObjectPicker label="Object" onpick={pick} />
  {#if columns.names.length}
    <fieldset>
      <legend class="text-sm text-muted">Or only these columns of <span class="mono">{columns.of}</span></legend>
      <div class="flex flex-wrap gap-x-4">
        {#each columns.names as name (name)}
          {@const path = `${columns.of}.${name}`}
          <label class="mono flex items-center gap-1.5"
            ><input
              type="checkbox"
              checked={objects.includes(path)}
              onchange={() => {
                objects = objects.filter((o) => o !== columns.of)
                toggle(path)
              }}
            />
            {name}</label
          >
        {/each}
      </div>
    </fieldset>
  {/if}
</ChangeDialog>
