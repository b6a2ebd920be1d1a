<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { api, get, type Policy } from '../lib/api'
  import { loaded } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
  import PolicyDialog from '../parts/PolicyDialog.svelte'
  import PolicyList from '../parts/PolicyList.svelte'
  import Trouble from '../parts/Trouble.svelte'

  // All policies as sentences, those that want attention first.
  const list = loaded(() => get(api.GET('/api/v1/policies', {})))
  const all = $derived(list.value?.items ?? [])
  let text = $state('')
  const kind = $derived(place.query.get('kind') ?? '')
  const status = $derived(place.query.get('status') ?? '')
  const filters: [string, string, (p: Policy) => boolean][] = [
    ['broken', 'broken', (p) => !!p.broken],
    ['draft', 'drafts', (p) => p.status === 'draft'],
    ['off', 'stopped', (p) => p.status === 'off'],
    ['live', 'live', (p) => p.status === 'live'],
  ]
  const rank = (p: Policy) => (p.broken ? 0 : p.status === 'draft' ? 1 : p.status === 'off' ? 3 : 2)
  const shown = $derived(
    all
      .filter(
        (p) =>
          (!kind || p.kind === kind) &&
          (filters.find(([value]) => value === status)?.[2](p) ?? true) &&
          (p.name + ' ' + p.table + ' ' + p.sentence + ' ' + (p.comment ?? ''))
            .toLowerCase()
            .includes(text.toLowerCase()),
      )
      .sort((a, b) => rank(a) - rank(b) || a.table.localeCompare(b.table) || a.name.localeCompare(b.name)),
  )
  let open = $state(false)
  let editing = $state<Policy | undefined>()
  let adding = $state<'rows' | 'columns'>('rows')
  function edit(policy: Policy | undefined, of: 'rows' | 'columns') {
    editing = policy
    adding = of
    open = true
  }
  let on = $state('')
  // An address can open one policy, or a new one: ?name=…, ?add=columns&on=label:….
  $effect(() => {
    const name = place.query.get('name')
    const add = place.query.get('add')
    const found = all.find((p) => p.name === name)
    if (!found && !add) return
    on = place.query.get('on') ?? ''
    edit(found, found?.kind ?? (add === 'columns' ? 'columns' : 'rows'))
    place.become('/policies', { kind, status, name: '', add: '', on: '' })
  })
  const go = (more: Record<string, string>) => place.go('/policies', { kind, status, ...more })
</script>

<div class="h-full overflow-y-auto p-5" use:scrollable={'Policies'}>
  <div class="mb-3 flex flex-wrap items-center gap-2">
    <h1 class="mr-2">Policies</h1>
    <input class="field max-w-52" placeholder="filter" aria-label="Filter policies" bind:value={text} />
    <select class="field w-auto" aria-label="Kind" value={kind} onchange={(e) => go({ kind: e.currentTarget.value })}
      ><option value="">rows and columns</option><option value="rows">rows</option><option value="columns"
        >columns</option
      ></select
    >
    {#each filters as [value, name, test] (value)}
      {@const n = all.filter(test).length}
      {#if n > 0}<button
          type="button"
          class="btn py-0.5 text-sm"
          aria-pressed={status === value}
          onclick={() => go({ status: status === value ? '' : value })}>{name} <b>{n}</b></button
        >{/if}
    {/each}
    {#if signed.session?.reviewer && (list.value || list.problem)}
      <!-- not before the filters, which would move them -->
      <span class="ml-auto flex gap-2">
        <button type="button" class="btn btn-main" onclick={() => ((on = ''), edit(undefined, 'rows'))}
          >Row policy</button
        >
        <button type="button" class="btn" onclick={() => ((on = ''), edit(undefined, 'columns'))}>Column policy</button>
      </span>
    {/if}
  </div>
  {#if list.problem}<Trouble problem={list.problem} />{/if}
  {#if list.value}
    <PolicyList
      policies={shown}
      manage={!!signed.session?.reviewer && !place.elsewhere}
      onedit={(p) => ((on = ''), edit(p, p.kind))}
      where
      none={all.length
        ? 'No policy is like that.'
        : 'No policies yet: who holds SELECT on a table sees all its rows, and all columns in clear. Write the first with Row policy or Column policy.'}
    />
  {:else if !list.problem}<div class="h-40 animate-pulse rounded bg-raised"></div>{/if}
</div>
{#if open}<PolicyDialog bind:open kind={adding} policy={editing} {on} />{/if}
