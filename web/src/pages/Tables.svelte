<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { fetched } from '../lib/load.svelte'
  import { api, get, type Node, type Problem } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import { picked } from '../lib/rights.svelte'
  import { signed } from '../lib/session.svelte'
  import GrantDialog from '../parts/GrantDialog.svelte'
  import ObjectView from '../parts/ObjectView.svelte'
  import Trouble from '../parts/Trouble.svelte'
  import SideList from '../parts/SideList.svelte'
  import TreeNode from '../parts/TreeNode.svelte'

  let root = $state<Node | null>(null)
  let problem = $state<Problem | null>(null)
  let filter = $state('')
  let granting = $state(false)
  const kinds = $derived([...new Set(Object.values(picked.paths))])
  const path = $derived(decodeURIComponent(place.path.replace(/^\/tables\/?/, '')))

  fetched(
    (signal) => {
      return get(api.GET('/api/v1/tree', { signal, params: { query: { depth: 2, ...place.at } } }))
    },
    (node) => {
      root = node
      problem = null
    },
    (p) => (problem = p),
  )

  function key(event: KeyboardEvent) {
    const rows = [...(event.currentTarget as HTMLElement).querySelectorAll<HTMLElement>('[role=treeitem] > a')]
    const at = rows.indexOf(document.activeElement as HTMLElement)
    if (at < 0) return
    if (event.key === 'ArrowDown') rows[at + 1]?.focus()
    else if (event.key === 'ArrowUp') rows[at - 1]?.focus()
    else return
    event.preventDefault()
  }
</script>

<div
  class="grid h-full grid-cols-[15.5rem_minmax(0,1fr)] max-[900px]:grid-cols-1 max-[900px]:grid-rows-[auto_minmax(0,1fr)]"
>
  <SideList label="Tables" chosen={path}>
    <div class="flex gap-2 border-b border-line p-2">
      <input class="field" placeholder="filter tables" aria-label="Filter tables" bind:value={filter} />
      {#if signed.session?.administrator}
        <button
          type="button"
          class="btn"
          aria-pressed={picked.on}
          title="Mark several, to grant on them together"
          onclick={() => (picked.on ? picked.clear() : (picked.on = true))}>Select several</button
        >
      {/if}
    </div>
    <!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
    <ul
      class="min-h-0 flex-1 overflow-y-auto p-1.5"
      role="tree"
      aria-label="Sources, schemas and tables"
      onkeydown={key}
    >
      {#if root}
        {#each root.children ?? [] as source (source.path)}
          <TreeNode node={source} selected={path} {filter} open />
        {:else}
          <li class="p-2 text-muted">
            Nothing to see here yet. A role or a grant would give access to the first schema.
          </li>
        {/each}
      {:else if !problem}
        {#each [1, 2, 3, 4, 5, 6] as i (i)}<li class="m-2 h-4 animate-pulse rounded bg-raised"></li>{/each}
      {/if}
    </ul>
    {#if picked.on}
      <div class="flex items-center justify-between gap-2 border-t border-line p-2">
        <span class="text-sm text-muted"
          >{kinds.length > 1 ? 'mark objects of one kind' : `${picked.list.length} marked`}</span
        >
        <button type="button" class="btn btn-main" disabled={kinds.length !== 1} onclick={() => (granting = true)}
          >Grant …</button
        >
      </div>
    {/if}
    <p class="border-t border-line p-2 text-xs text-muted">
      Bands, from the top: door, verbs, rows, columns. Full, in part, or not.
    </p>
  </SideList>
  <div class="min-h-0 overflow-y-auto p-5" use:scrollable={'Details'}>
    {#if problem}
      <Trouble {problem} />
    {:else if path}
      {#key path}<ObjectView {path} />{/key}
    {:else}
      <h1>Tables</h1>
      <p class="mt-1 max-w-prose text-muted">
        Choose a table on the left. Its page shows its rows as you see them, or as anyone you view as; its columns and
        how they are shown; who has access, and through what; its policies and grants.
      </p>
    {/if}
  </div>
</div>
{#if granting}<GrantDialog bind:open={granting} objects={picked.list} kind={kinds[0]!} />{/if}
