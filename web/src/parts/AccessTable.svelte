<script lang="ts">
  import { dayOf } from '../lib/dates'
  import { fetched } from '../lib/load.svelte'
  import { api, get, type Access, type Problem } from '../lib/api'
  import type { Column } from '../lib/grid'
  import { place } from '../lib/place.svelte'
  import BandGlyph from './BandGlyph.svelte'
  import Grid from './Grid.svelte'
  import Trouble from './Trouble.svelte'

  // Effective access: to an object, by subject; or of a subject, by object.
  let { to = '', of = '' }: { to?: string; of?: string } = $props()
  let items = $state.raw<Access[] | null>(null)
  let problem = $state<Problem | null>(null)
  let filtered = $state(false)
  let opened = $state('')
  let paths = $state<Access['paths'] | null>(null)
  let unfolded = $state<string[]>([])
  let kinds = $state('people')

  fetched(
    (signal) => {
      return get(api.GET('/api/v1/access', { signal, params: { query: of ? { of } : { to } } }))
    },
    (list) => {
      items = list.items
      problem = null
    },
    (p) => (problem = p),
  )

  const name = (a: Access) => (of ? a.object : a.subject)
  const shown = $derived(
    (items ?? []).filter(
      (a) => of || kinds === 'all' || a.subject.startsWith('user:') || a.subject.startsWith('service:'),
    ),
  )
  // Many objects are folded into their schemas, until a filter or a click opens them.
  const many = 150
  const folds = $derived(!!of && !filtered && (items?.length ?? 0) > many)
  const schemaOf = (a: Access) => a.object.slice(0, a.object.lastIndexOf('.'))
  const isTable = (a: Access) => a.kind === 'table' || a.kind === 'view'
  const rows = $derived(shown.filter((a) => !folds || !isTable(a) || unfolded.includes(schemaOf(a))))
  const held = $derived.by(() => {
    const sizes: Record<string, number> = {}
    for (const a of shown) if (isTable(a)) sizes[schemaOf(a)] = (sizes[schemaOf(a)] ?? 0) + 1
    return sizes
  })
  const inside = (a: Access) => (folds && a.kind === 'schema' ? (held[a.object] ?? 0) : 0)

  // The ways to what is held are asked for one by one: there can be many.
  function open(a: Access) {
    opened = opened === name(a) ? '' : name(a)
    paths = null
  }
  fetched(
    (signal) => {
      if (!opened) return null
      const query = { of: of || opened, below: of ? opened : to, paths: true }
      return get(api.GET('/api/v1/access', { signal, params: { query } }))
    },
    (list) => (paths = list.items.find((a) => a.object === (of ? opened : to))?.paths ?? []),
    (p) => (problem = p),
  )

  // ALL says the rest but REVEAL.
  const may = (list: string[]) =>
    list.includes('ALL') ? ['ALL', ...list.filter((p) => p === 'REVEAL')].join(', ') : list.join(', ') || '–'
  const depth = (a: Access) => (a.object === 'platform' ? 0 : a.object.split('.').length - 1)
  const covers = (a: Access) => [a.rows, a.columns].filter(Boolean).join('; ') || a.bands.says
  const columns = $derived<Column<Access>[]>([
    { id: 'name', head: of ? 'Object' : 'Subject', class: 'mono', value: name },
    { id: 'bands', head: 'Bands', value: (a) => a.bands.says },
    { id: 'may', head: 'May', class: 'text-sm', value: (a) => may(a.privileges) },
    { id: 'covers', head: 'Rows and columns', class: 'text-sm', value: covers },
  ])
</script>

{#snippet tools()}
  {#if !of}
    <label class="flex items-center gap-1.5"
      ><input type="radio" bind:group={kinds} value="people" /> users and services</label
    >
    <label class="flex items-center gap-1.5"
      ><input type="radio" bind:group={kinds} value="all" /> groups and roles, too</label
    >
  {/if}
  <span class="text-sm text-muted">a glyph opens its paths</span>
{/snippet}
{#snippet cell(a: Access, c: Column<Access>)}
  {#if c.id === 'name'}
    <span style={of ? `padding-left: ${depth(a) * 0.9}rem` : ''}
      ><a class="hover:underline" href={place.href(of ? '/tables/' + a.object : '/subjects/' + a.subject)}>{name(a)}</a
      ></span
    >
    {#if inside(a)}<button
        type="button"
        class="btn ml-1 px-1.5 py-0 text-xs"
        aria-expanded={unfolded.includes(a.object)}
        onclick={() =>
          (unfolded = unfolded.includes(a.object) ? unfolded.filter((x) => x !== a.object) : [...unfolded, a.object])}
        >{unfolded.includes(a.object) ? '▾' : '▸'} {inside(a)} {inside(a) === 1 ? 'table' : 'tables'}</button
      >{/if}
  {:else if c.id === 'bands'}
    <button type="button" aria-label="Paths of {name(a)}" aria-expanded={opened === name(a)} onclick={() => open(a)}>
      <BandGlyph bands={a.bands} />
    </button>
  {:else if c.id === 'may'}<span title={a.privileges.join(', ')}>{may(a.privileges)}</span>
  {:else}{covers(a)}{/if}
{/snippet}
{#snippet below(a: Access)}
  {#if opened === name(a)}
    <tr>
      <td colspan="4" class="bg-raised">
        {#each paths ?? [] as p, i (i)}
          <p class="py-0.5 text-sm">
            {#each p.steps as step (step)}<a class="chip hover:underline" href={place.href('/subjects/' + step)}
                >{step}</a
              >
              <span class="text-muted" aria-hidden="true">→</span>
            {/each}
            <span class="mono">{p.grant.privilege} on {p.grant.object}</span>
            <span class="text-muted"
              >{p.grant.grantor ? `by ${p.grant.grantor}, ${dayOf(p.grant.at)}` : 'built in'}{p.grant.ticket
                ? `, ${p.grant.ticket}`
                : ''}</span
            >
          </p>
        {:else}
          <p class="text-muted">{paths ? 'No path.' : 'Loading …'}</p>
        {/each}
      </td>
    </tr>
  {/if}
{/snippet}
{#if problem}
  <Trouble {problem} />
{:else if items}
  <Grid
    name={of ? `Access of ${of}` : `Access to ${to}`}
    {columns}
    {rows}
    key={name}
    {cell}
    {below}
    {tools}
    bind:filtered
    empty={of ? 'No rights yet. Give a role, or grant from a table’s page.' : 'Nobody.'}
  />
{:else}
  <div class="panel h-40 animate-pulse bg-raised" aria-busy="true"></div>
{/if}
