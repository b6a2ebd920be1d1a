<script lang="ts">
  import { fetched } from '../lib/load.svelte'
  import { api, get, type Node } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import { picked } from '../lib/rights.svelte'
  import BandGlyph from './BandGlyph.svelte'
  import Self from './TreeNode.svelte'

  let {
    node,
    selected,
    filter = '',
    open = false,
  }: { node: Node; selected: string; filter?: string; open?: boolean } = $props()

  const leaf = $derived(node.kind === 'table' || node.kind === 'view')
  let toggled = $state<boolean | null>(null)
  const inside = $derived(selected === node.path || selected.startsWith(node.path + '.'))
  const isOpen = $derived(toggled ?? (open || inside || filter !== ''))
  let below = $state<Node[] | null>(null)
  const children = $derived(node.children ?? below)
  const shown = $derived(
    (children ?? []).filter(
      (c) => !filter || (c.kind !== 'table' && c.kind !== 'view') || c.name.includes(filter.toLowerCase()),
    ),
  )

  // Of a schema with thousands of tables the first are drawn; the chosen one always is.
  let most = $state(200)
  const drawn = $derived(shown.filter((c, i) => i < most || c.path === selected))

  fetched(
    (signal) => {
      if (leaf || node.children || !isOpen) return null
      return get(api.GET('/api/v1/tree', { signal, params: { query: { path: node.path, depth: 1, ...place.at } } }))
    },
    (n) => (below = n.children ?? []),
    () => (below = []),
  )

  function key(event: KeyboardEvent) {
    if (leaf) return
    if (event.key === 'ArrowRight') toggled = true
    else if (event.key === 'ArrowLeft') toggled = false
    else return
    event.preventDefault()
  }
</script>

<li role="treeitem" aria-selected={selected === node.path} aria-expanded={leaf ? undefined : isOpen} class="relative">
  {#if picked.on}<input
      type="checkbox"
      class="absolute top-1.5 right-1"
      aria-label="Mark {node.path}"
      checked={node.path in picked.paths}
      onchange={() => picked.toggle(node.path, node.kind)}
    />{/if}
  <a
    href={place.href('/tables/' + node.path)}
    class="flex items-center gap-1.5 rounded px-1 py-[0.19rem] {selected === node.path
      ? 'bg-garnet-wash font-semibold'
      : 'hover:bg-raised'}"
    title={node.bands.says}
    onkeydown={key}
    onclick={() => {
      if (!leaf) toggled = selected === node.path ? !isOpen : true
    }}
  >
    <span class="w-3 text-center text-xs text-muted" aria-hidden="true">{leaf ? '' : isOpen ? '▾' : '▸'}</span>
    <BandGlyph bands={node.bands} size={14} />
    <span class="truncate {leaf ? 'mono' : ''} {node.missing ? 'text-muted line-through' : ''}">{node.name}</span>
    {#if node.kind === 'view'}<span class="text-xs text-muted">view</span>{/if}
  </a>
  {#if isOpen && !leaf}
    <ul role="group" class="ml-3.5 border-l border-line pl-1">
      {#each drawn as child (child.path)}
        <Self node={child} {selected} {filter} />
      {:else}
        {#if children}<li class="px-2 text-sm text-muted">{filter ? 'nothing so named' : 'nothing to see'}</li>{/if}
      {/each}
      {#if shown.length > drawn.length}<li class="px-2 py-0.5">
          <button type="button" class="btn py-0 text-xs" onclick={() => (most += 1000)}
            >{shown.length - drawn.length} more; or filter</button
          >
        </li>{/if}
    </ul>
  {/if}
</li>
