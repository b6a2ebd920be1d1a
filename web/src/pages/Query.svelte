<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { onMount } from 'svelte'
  import { api, get, says, type Problem, type Result } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
  import { loaded } from '../lib/load.svelte'
  import Trouble from '../parts/Trouble.svelte'
  import type { SqlEditor } from '../lib/editor'
  import { isNumber } from '../lib/types'
  import type { Value } from '../lib/grid'
  import Grid from '../parts/Grid.svelte'

  type Line = { values: unknown[]; n: number }
  let host: HTMLElement
  let editor: SqlEditor | undefined
  let result = $state.raw<Result | null>(null)
  let problem = $state<Problem | null>(null)
  let busy = $state(false)
  let side = $state<'sql' | 'policies' | 'database'>('sql')
  let ran = $state('')
  let lane = $state('')
  const lanes = loaded(() => get(api.GET('/api/v1/lanes', {})))
  const open = $derived((lanes.value?.items ?? []).filter((l) => l.open))

  onMount(() => {
    let gone = false
    import('../lib/editor').then(({ sqlEditor }) => {
      if (gone) return
      editor = sqlEditor(
        host,
        place.query.get('sql') ??
          'SELECT district, count(*) AS boreholes\nFROM survey.drilling.boreholes\nGROUP BY district\nORDER BY district',
        run,
      )
      loadNames()
    })
    return () => {
      gone = true
      editor?.destroy()
    }
  })

  // Completion offers what the standpoint may see.
  function loadNames() {
    get(api.GET('/api/v1/tree', { params: { query: { depth: 4, ...place.at } } }))
      .then((tree) => editor?.setSchema(tree))
      .catch(() => {})
  }
  $effect(() => {
    void place.at
    loadNames()
  })

  async function run() {
    if (!editor || busy) return
    const sql = editor.text()
    busy = true
    try {
      result = await get(
        api.POST('/api/v1/queries', { body: { sql, plan: true, limit: 500, lane: lane || undefined, ...place.at } }),
      )
      problem = result.problem ? { ...result.problem } : null
      if (/^\s*(re)?set\b/i.test(sql)) await signed.load()
      if (!/^\s*(select|with|values|explain)\b/i.test(sql)) changes.count++
      ran = sql
    } catch (error) {
      problem = says(error)
      result = null
    }
    busy = false
  }

  // Rows and columns are known by their places: names may stand there twice.
  const columns = $derived(
    (result?.columns ?? []).map((c, i) => ({
      id: String(i),
      head: c.name,
      title: c.type,
      number: isNumber(c.type),
      class: 'max-w-72 truncate',
      value: (row: Line) => row.values[i] as Value,
    })),
  )
  const rows = $derived((result?.rows ?? []).map((values, n) => ({ values, n })))
</script>

<div class="flex h-full flex-col gap-3 overflow-y-auto p-5" use:scrollable={'Result'}>
  <h1>Query</h1>
  <div class="panel overflow-hidden" bind:this={host} data-testid="editor"></div>
  <div class="flex items-center gap-3">
    <button type="button" class="btn btn-main" onclick={run} disabled={busy}
      >{busy ? 'Running …' : 'Run'} <kbd class="mono text-xs">Ctrl Enter</kbd></button
    >
    {#if open.length > 1}
      <label class="flex items-center gap-1.5 text-sm text-muted"
        >lane
        <select class="field w-auto text-ink" bind:value={lane}>
          <option value="">first open</option>
          {#each open as l (l.name)}<option value={l.name}>{l.name}</option>{/each}
        </select></label
      >
    {/if}
    {#if result}
      <span class="text-muted" role="status"
        >{result.rows.length}
        {result.rows.length === 1 ? 'row' : 'rows'} as <span class="mono">{result.standpoint}</span>{result.lane
          ? ` on lane:${result.lane}`
          : ''} in {result.took_ms.toFixed(1)} ms{result.truncated ? ', the first of more' : ''} · {result.record}</span
      >
    {/if}
  </div>
  {#if problem}<Trouble {problem} onfixed={run} />{/if}
  {#if result}
    <div class="grid min-h-0 grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-4 max-[1000px]:grid-cols-1">
      <div class="min-w-0">
        <Grid name="Result" testid="result" tall="max-h-[58vh]" {columns} {rows} key={(r) => r.n} empty="No rows." />
      </div>
      {#if result.plan}
        <section class="panel flex max-h-[58vh] min-w-0 flex-col" aria-label="What ran">
          <div class="flex gap-1 border-b border-line px-2 pt-1" role="tablist">
            {#each [['sql', 'Governed SQL'], ['policies', 'Policies'], ['database', 'Database’s plan']] as [value, name] (value)}
              <button
                type="button"
                role="tab"
                aria-selected={side === value}
                class="-mb-px border-b-2 px-2 py-1 text-sm {side === value
                  ? 'border-garnet font-semibold'
                  : 'border-transparent'}"
                onclick={() => (side = value as typeof side)}>{name}</button
              >
            {/each}
          </div>
          <div class="overflow-auto p-3" use:scrollable={'Result'}>
            {#if side === 'sql'}
              <pre class="mono text-xs!">{result.plan.sql}</pre>
              <ul class="mono mt-2 text-xs! text-muted">
                {#each result.plan.args as a, i (i)}<li>{a}</li>{/each}
              </ul>
            {:else if side === 'policies'}
              {#each result.plan.tables as t, i (i)}
                {#each t.columns as c (c.name)}
                  <p class="mb-1">
                    <span class="mono">{c.name}</span>
                    <span class="text-feldspar">◐ {c.treatment}{c.partly ? ', some rows' : ''}</span>
                    {#each c.by as name, i (i)}<span class="chip mr-1">{name}</span
                      >{/each}{#each [...c.lost, ...c.lifted] as name, i (i)}<span
                        class="chip mr-1 line-through"
                        title={c.lifted.includes(name) ? 'lifted by REVEAL' : 'overruled by a stricter one'}
                        >{name}</span
                      >{/each}
                  </p>
                {/each}
              {/each}
              {#each result.plan.policies as p, i (i)}<p class="mb-2">{p}.</p>{:else}<p class="text-muted">
                  No policy shaped this: the tables are read as they are.
                </p>{/each}
            {:else}<pre class="mono text-xs!">{(result.plan.database ?? []).join('\n')}</pre>{/if}
          </div>
        </section>
      {/if}
    </div>
  {/if}
</div>
