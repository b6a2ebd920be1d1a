<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { Graph, layout } from '@dagrejs/dagre'
  import type { Subject } from '../lib/api'
  import { place } from '../lib/place.svelte'

  // The hierarchy of roles: who holds on the left, what is included on the right.
  // The chosen role's reach is lit, both ways.
  let { all, chosen = '' }: { all: Subject[]; chosen?: string } = $props()

  const width = 176
  const height = 40

  const nodes = $derived(
    all.filter((s) => s.kind === 'role' || (s.kind === 'group' && s.memberships.some((m) => m.of.startsWith('role:')))),
  )
  const edges = $derived(
    nodes.flatMap((s) =>
      [...new Set(s.memberships.map((m) => m.of))]
        .filter((of) => of.startsWith('role:'))
        .map((of) => ({ from: s.ref, to: of })),
    ),
  )

  const lit = $derived.by(() => {
    if (!chosen) return null
    const reach = new Set([chosen])
    for (const [a, b] of [
      ['from', 'to'],
      ['to', 'from'],
    ] as const) {
      const queue = [chosen]
      for (let at = queue.pop(); at; at = queue.pop())
        for (const e of edges)
          if (e[a] === at && !reach.has(e[b])) {
            reach.add(e[b])
            queue.push(e[b])
          }
    }
    return reach
  })

  // With one chosen, its reach alone is drawn; without, all that build on each other.
  const placed = $derived(
    nodes.filter((s) => (lit ? lit.has(s.ref) : edges.some((e) => e.from === s.ref || e.to === s.ref))),
  )
  const alone = $derived(lit ? [] : nodes.filter((s) => !placed.includes(s)))

  const drawn = $derived.by(() => {
    const g = new Graph()
    g.setGraph({ rankdir: 'LR', nodesep: 14, ranksep: 70, marginx: 8, marginy: 8 })
    g.setDefaultEdgeLabel(() => ({}))
    for (const s of placed) g.setNode(s.ref, { width, height })
    const between = edges.filter((e) => g.hasNode(e.from) && g.hasNode(e.to))
    for (const e of between) g.setEdge(e.from, e.to)
    layout(g)
    const size = g.graph() as { width?: number; height?: number }
    const at = (ref: string) => g.node(ref) as { x: number; y: number }
    return {
      width: placed.length ? (size.width ?? 0) : 0,
      height: placed.length ? (size.height ?? 0) : 0,
      nodes: placed.map((s) => ({ s, ...at(s.ref) })),
      edges: between.map((e) => ({ ...e, path: curve(at(e.from), at(e.to)) })),
    }
  })

  // From the right side of the holder to the left side of what it holds.
  function curve(from: { x: number; y: number }, to: { x: number; y: number }): string {
    const x1 = from.x + width / 2
    const x2 = to.x - width / 2 - 2
    const middle = (x1 + x2) / 2
    return `M${x1} ${from.y} C${middle} ${from.y} ${middle} ${to.y} ${x2} ${to.y}`
  }
</script>

<div class="panel overflow-auto p-2" data-testid="graph" use:scrollable={'Graph of roles'}>
  <svg
    width={drawn.width}
    height={drawn.height}
    viewBox="0 0 {drawn.width} {drawn.height}"
    role="group"
    aria-label="Roles and what they include"
  >
    <defs>
      <marker id="arrow" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="7" markerHeight="7" orient="auto">
        <path d="M0 0 L8 4 L0 8 z" fill="var(--muted)" />
      </marker>
    </defs>
    {#each drawn.edges as e (e.from + e.to)}
      <path
        d={e.path}
        fill="none"
        stroke={chosen ? 'var(--garnet)' : 'var(--line-strong)'}
        stroke-width={chosen ? 2 : 1.3}
        marker-end="url(#arrow)"
      />
    {/each}
    {#each drawn.nodes as n (n.s.ref)}
      <a href={place.href((n.s.kind === 'role' ? '/roles/' : '/subjects/') + n.s.ref)}>
        <rect
          x={n.x - width / 2}
          y={n.y - height / 2}
          {width}
          {height}
          rx={n.s.kind === 'group' ? 18 : 5}
          fill={n.s.ref === chosen ? 'var(--garnet-wash)' : 'var(--raised)'}
          stroke={n.s.ref === chosen ? 'var(--garnet)' : n.s.holders ? 'var(--line-strong)' : 'var(--garnet)'}
          stroke-dasharray={n.s.holders ? undefined : '4 3'}
          stroke-width={n.s.ref === chosen ? 2 : 1}
        />
        <text x={n.x - width / 2 + 12} y={n.y - 2} class="fill-ink font-mono" font-size="12">{n.s.name}</text>
        <text x={n.x - width / 2 + 12} y={n.y + 13} class="fill-muted" font-size="11"
          >{n.s.kind === 'group' ? 'group, ' : ''}{n.s.holders ? `held by ${n.s.holders}` : '∅ no members'}{n.s.dormant
            ? `, ◇ ${n.s.dormant} dormant`
            : ''}</text
        >
      </a>
    {/each}
  </svg>
</div>
{#if alone.length}
  <p class="mt-3 mb-1 text-sm text-muted">Roles that stand alone</p>
  <div class="flex flex-wrap gap-1.5">
    {#each alone as s (s.ref)}
      <a
        class="chip hover:underline {s.holders ? '' : 'border-dashed border-garnet'}"
        href={place.href('/roles/' + s.ref)}
        >{s.name} <span class="text-muted">{s.holders ? s.holders : '∅ no members'}</span></a
      >
    {/each}
  </div>
{/if}
<p class="mt-2 text-sm text-muted">
  Arrows lead from members to the roles they have. Round: groups. Dashed: no members.
</p>
