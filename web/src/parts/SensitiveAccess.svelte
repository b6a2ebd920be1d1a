<script lang="ts">
  import { api, get } from '../lib/api'
  import { loaded } from '../lib/load.svelte'
  import CountChart from './CountChart.svelte'
  import Trouble from './Trouble.svelte'

  // Sensitive access over time: of which labels, by whom, from where, and what stands out. Everything
  // filters the record below.
  export interface Filter {
    actor?: string
    label?: string
    address?: string
    from?: string
    until?: string
    decision?: string
    others?: boolean
    object?: string
    role?: string
    purpose?: string
  }
  let { filter, onfilter }: { filter: Filter; onfilter: (f: Filter) => void } = $props()
  let days = $state(90)
  const counts = loaded((signal) => {
    const from = new Date(Date.now() - (days - 1) * 86_400_000).toISOString().slice(0, 10)
    return get(
      api.GET('/api/v1/record-counts', {
        signal,
        params: { query: { from, label: filter.label || undefined, actor: filter.actor || undefined } },
      }),
    )
  })
  const colors = ['garnet', 'feldspar', 'epidote', 'muted', 'ink']
  // The most restricted first, since the colours stand for how much it matters.
  const order = ['restricted', 'confidential', 'internal', 'public', '']
  const labels = $derived(
    [...(counts.value?.labels ?? [])].sort((a, b) => order.indexOf(a.level ?? '') - order.indexOf(b.level ?? '')),
  )
  // What is counted beside the chart; a click narrows the record below.
  type Counts = NonNullable<typeof counts.value>
  interface Side {
    name: string
    list: (c: Counts) => Counts['people']
    narrow: (name: string) => Filter
    none: string
    uses?: boolean // of one person, how often is known, and not how many rows
  }
  const sides: Side[] = [
    { name: 'Who', list: (c) => c.people, narrow: (actor) => ({ actor }), none: 'nobody' },
    { name: 'Table', list: (c) => c.tables, narrow: (object) => ({ object }), none: 'no table', uses: true },
    { name: 'Role', list: (c) => c.roles, narrow: (role) => ({ role }), none: 'by no role', uses: true },
    { name: 'Where', list: (c) => c.addresses, narrow: (address) => ({ address }), none: 'no address' },
    { name: 'Purpose', list: (c) => c.purposes, narrow: (purpose) => ({ purpose }), none: 'none was declared' },
  ]
  let by = $state('Who')
  const shown = $derived(sides.find((s) => s.name === by)!)
  const sum = (list: number[]) => list.reduce((a, b) => a + b, 0)
  const short = (path: string) => path.replace(/^label:/, '')
</script>

{#if counts.problem}<Trouble problem={counts.problem} asks={false} />{/if}
{#if counts.value}
  {@const c = counts.value}
  <section class="panel mb-3 p-3" aria-label="Sensitive access">
    <div class="mb-1 flex flex-wrap items-center gap-x-4 gap-y-1 text-sm">
      <h2 class="text-base">Rows read of what has a label</h2>
      {#each labels as l, i (l.name)}
        <button
          type="button"
          class="flex items-center gap-1.5 hover:underline"
          aria-pressed={filter.label === short(l.name)}
          onclick={() => onfilter({ ...filter, label: filter.label === short(l.name) ? '' : short(l.name) })}
        >
          <span class="inline-block h-2.5 w-2.5 rounded-sm" style="background: var(--{colors[i % colors.length]})"
          ></span>
          {short(l.name)}{l.level ? `, ${l.level}` : ''}: {sum(l.rows).toLocaleString('en')}
        </button>
      {/each}
      <select class="field ml-auto w-auto py-0 text-sm" bind:value={days} aria-label="How far back">
        {#each [[30, '30 days'], [90, '90 days'], [150, '150 days'], [365, 'a year']] as const as [n, title] (n)}<option
            value={n}>{title}</option
          >{/each}
      </select>
    </div>
    <div class="grid grid-cols-[minmax(0,3fr)_minmax(0,1.1fr)_minmax(0,1.4fr)] gap-4 max-[1000px]:grid-cols-1">
      <CountChart
        days={c.days}
        series={labels.map((l, i) => ({ name: short(l.name), color: colors[i % colors.length]!, values: l.rows }))}
        onday={(day) => onfilter({ ...filter, from: day, until: day })}
      />
      <div class="min-w-0 text-sm">
        <div class="mb-1 flex gap-3" role="tablist" aria-label="Counted by">
          {#each sides as side (side.name)}
            <button
              type="button"
              role="tab"
              class="text-xs {side === shown ? 'text-ink underline underline-offset-4' : 'text-muted hover:underline'}"
              aria-selected={side === shown}
              onclick={() => (by = side.name)}>{side.name}</button
            >
          {/each}
        </div>
        {#each shown.list(c).slice(0, 7) as p (p.name)}
          <button
            type="button"
            class="flex w-full justify-between gap-2 hover:underline"
            onclick={() => onfilter({ ...filter, ...shown.narrow(p.name) })}
            ><span class="mono truncate" dir={shown.name === 'Table' ? 'rtl' : undefined} title={p.name}
              ><bdi>{p.name}</bdi></span
            ><span class="tabular-nums"
              >{filter.actor && shown.uses ? `${p.n.toLocaleString('en')} ×` : p.rows.toLocaleString('en')}</span
            ></button
          >
        {:else}<p class="text-muted">{shown.none}</p>{/each}
        {#if shown.name === 'Who' && c.for_others.length}<p class="mt-1 text-xs text-muted">
            As somebody else, counted apart
          </p>
          {#each c.for_others.slice(0, 2) as p (p.name)}
            <button
              type="button"
              class="flex w-full justify-between gap-2 hover:underline"
              onclick={() => onfilter({ ...filter, others: true, actor: p.name.split(' as ')[0] })}
              ><span class="mono truncate">{p.name}</span><span class="tabular-nums">{p.rows.toLocaleString('en')}</span
              ></button
            >
          {/each}{/if}
      </div>
      <div class="min-w-0 text-sm">
        <p class="text-xs text-muted">What stands out</p>
        <ul class="flex max-h-36 flex-col gap-1 overflow-y-auto">
          {#each c.unusual as u ([u.day, u.kind, u.actor, u.label, u.address].join())}
            <li>
              <button
                type="button"
                class="text-left hover:underline"
                onclick={() =>
                  onfilter({ actor: u.actor, label: u.label ? short(u.label) : '', from: u.day, until: u.day })}
                ><span class={u.kind === 'far_above' ? 'text-garnet' : 'text-feldspar'}
                  >{u.kind === 'far_above' ? '▲' : '◆'}</span
                >
                {u.day}: {u.says}</button
              >
            </li>
          {:else}<li class="text-muted">Nothing in this time.</li>{/each}
        </ul>
        {#if c.queries.length}<p class="mt-1 text-xs text-muted">
            {sum(c.queries).toLocaleString('en')} statements,
            <button type="button" class="underline" onclick={() => onfilter({ ...filter, decision: 'refused' })}
              >{sum(c.refused).toLocaleString('en')} refusals</button
            >, {sum(c.changes).toLocaleString('en')} changes
          </p>{/if}
      </div>
    </div>
  </section>
{/if}
