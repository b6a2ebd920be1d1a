<script lang="ts">
  import { api, get, type Policy, type Schemas } from '../lib/api'
  import PhraseEditor from './PhraseEditor.svelte'

  // Which rows a row policy is about, for which statements.
  let {
    what = $bindable(),
    table,
    columns,
    trial,
  }: {
    what: Partial<Policy>
    table: string
    columns: Schemas['WireColumnView'][]
    trial: Schemas['WireTrialResult'] | null
  } = $props()

  /* svelte-ignore state_referenced_locally */
  const start = what
  let mode = $state<'allow' | 'limit'>(start.mode || 'allow')
  let commands = $state<'both' | 'read' | 'write'>(start.commands || 'both')
  let how = $state<'condition' | 'follow'>(start.follow ? 'follow' : 'condition')
  let rule = $state(start.rule ?? '')
  let phrases = $state<Schemas['WirePhrase'][]>(start.phrases ?? [])
  let join = $state<string>(start.join || 'AND')
  let follow = $state(start.follow ?? '')
  let via = $state<string[]>(start.via ?? [])
  // The side that was written last; the other one follows from it.
  let written = $state<'words' | 'rule'>(start.rule ? 'rule' : 'words')
  // A condition that words cannot say opens as SQL.
  let sql = $state(!!start.rule && !start.phrases?.length)

  let ways = $state<Schemas['WireRelationship'][]>([])
  $effect(() => {
    if (!table || /[:*]/.test(table)) return
    get(api.GET('/api/v1/relationships', { params: { query: { table } } }))
      .then((list) => (ways = list.items.filter((r) => r.from.every((c) => c.startsWith(table + '.')))))
      .catch(() => (ways = []))
  })
  const parent = (r: Schemas['WireRelationship']) => r.to[0]!.slice(0, r.to[0]!.lastIndexOf('.'))
  const short = (path: string) => path.slice(path.lastIndexOf('.') + 1)

  $effect(() => {
    const kind = { mode, commands }
    if (how === 'follow') what = { ...kind, follow, via: $state.snapshot(via) }
    else if (written === 'words') what = { ...kind, rule: '', phrases: $state.snapshot(phrases), join: join as 'AND' }
    else what = { ...kind, rule, phrases: undefined }
  })
  $effect(() => {
    if (!trial || how === 'follow') return
    if (written === 'words') rule = trial.rule
    else if (trial.rule === rule) {
      phrases = trial.phrases
      join = trial.join || 'AND'
    }
  })
  const beyond = $derived(written === 'rule' && !!trial && trial.rule === rule && trial.phrases.length === 0)
</script>

<div class="flex flex-wrap items-center gap-2">
  <span>Rows</span>
  <select class="field w-auto" bind:value={mode} aria-label="Mode"
    ><option value="allow">are shown</option><option value="limit">are limited to those</option></select
  >
  <select class="field w-auto" bind:value={commands} aria-label="Statements"
    ><option value="both">to read and write</option><option value="read">to read</option><option value="write"
      >to write</option
    ></select
  >
  <select class="field w-auto" bind:value={how} aria-label="By what"
    ><option value="condition">by condition</option><option value="follow">by relationship</option></select
  >
</div>
{#if how === 'follow'}
  {#if ways.length}
    <label class="flex items-center gap-2"
      >that are there when
      <select
        class="field mono w-auto"
        aria-label="Parent"
        value={follow + '/' + via.join()}
        onchange={(e) => {
          const way = ways[e.currentTarget.selectedIndex - 1]
          follow = way ? parent(way) : ''
          via = way ? way.from.map(short) : []
        }}
      >
        <option value="/">choose …</option>
        {#each ways as r (r.from.join() + r.to.join())}<option value={parent(r) + '/' + r.from.map(short).join()}
            >{parent(r)} by {r.from.map(short).join(', ')}</option
          >{/each}
      </select> is</label
    >
  {:else}<p class="text-muted">
      No relationship leads from this table to another. Declare one:
      <code class="mono text-xs!">gneiss relationship add {table || 'TABLE'}.COLUMN to OTHER.COLUMN</code>
    </p>{/if}
{:else}
  <div class="flex gap-1" role="group" aria-label="Write the condition">
    <button type="button" class="btn py-0 text-sm" aria-pressed={!sql} onclick={() => (sql = false)}>In words</button>
    <button type="button" class="btn py-0 text-sm" aria-pressed={sql} onclick={() => (sql = true)}>In SQL</button>
  </div>
  {#if sql}
    <label class="text-sm text-muted"
      >Condition
      <textarea
        class="field mono text-ink"
        rows="3"
        bind:value={rule}
        oninput={() => (written = 'rule')}
        spellcheck="false"
        placeholder="district IN (attribute('districts'))"></textarea>
    </label>
    {#if beyond}<p class="text-sm text-muted">Only SQL can say this condition; the words cannot.</p>{/if}
  {:else}
    {#if beyond}<p class="text-sm text-muted">
        Only SQL can say this condition. A condition added here replaces it.
      </p>{/if}
    <PhraseEditor
      bind:phrases
      bind:join
      {columns}
      begin={!start.rule}
      onchange={() => (written = phrases.length || !rule ? 'words' : 'rule')}
    />
  {/if}
{/if}
