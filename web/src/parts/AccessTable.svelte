<script lang="ts">
  import { fetched } from '../lib/load.svelte'
  import { api, get, says, type Access, type Problem } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import BandGlyph from './BandGlyph.svelte'
  import Trouble from './Trouble.svelte'

  // Effective access: to an object, by subject; or of a subject, by object.
  let { to = '', of = '' }: { to?: string; of?: string } = $props()
  let items = $state<Access[] | null>(null)
  let problem = $state<Problem | null>(null)
  let filter = $state('')
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
      (a) =>
        name(a).includes(filter.toLowerCase()) &&
        (of || kinds === 'all' || a.subject.startsWith('user:') || a.subject.startsWith('service:')),
    ),
  )
  // Many objects are folded into their schemas, until a filter or a click opens them.
  const many = 150
  const most = 400
  const folds = $derived(!!of && !filter && (items?.length ?? 0) > many)
  const schemaOf = (a: Access) => a.object.slice(0, a.object.lastIndexOf('.'))
  const rows = $derived(
    shown.filter((a) => !folds || (a.kind !== 'table' && a.kind !== 'view') || unfolded.includes(schemaOf(a))),
  )
  const inside = (a: Access) =>
    folds && a.kind === 'schema' ? shown.filter((t) => t.kind !== 'schema' && schemaOf(t) === a.object).length : 0

  // The ways to what is held are asked for one by one: there can be many.
  function open(a: Access) {
    opened = opened === name(a) ? '' : name(a)
    paths = null
    if (!opened) return
    get(
      api.GET('/api/v1/access', {
        params: { query: { of: of || a.subject, below: of ? a.object : to, paths: true } },
      }),
    )
      .then((list) => (paths = list.items.find((x) => x.object === a.object)?.paths ?? []))
      .catch((error) => (problem = says(error)))
  }

  // ALL says the rest but REVEAL.
  const may = (list: string[]) =>
    list.includes('ALL') ? ['ALL', ...list.filter((p) => p === 'REVEAL')].join(', ') : list.join(', ') || '–'
  const depth = (a: Access) => (a.object === 'platform' ? 0 : a.object.split('.').length - 1)
</script>

{#if problem}
  <Trouble {problem} />
{:else if items}
  <div class="mb-2 flex items-center gap-3">
    <input class="field max-w-56" placeholder="filter" aria-label="Filter" bind:value={filter} />
    {#if !of}
      <label class="flex items-center gap-1.5"
        ><input type="radio" bind:group={kinds} value="people" /> users and services</label
      >
      <label class="flex items-center gap-1.5"
        ><input type="radio" bind:group={kinds} value="all" /> groups and roles, too</label
      >
    {/if}
    <span class="text-sm text-muted">{shown.length} of {items.length}; a glyph opens its paths</span>
  </div>
  <div class="panel overflow-hidden">
    <table class="dense">
      <thead
        ><tr><th>{of ? 'Object' : 'Subject'}</th><th class="w-0">Bands</th><th>May</th><th>Rows and columns</th></tr
        ></thead
      >
      <tbody>
        {#each rows.slice(0, most) as a (name(a))}
          <tr>
            <td class="mono" style={of ? `padding-left: ${0.7 + depth(a) * 0.9}rem` : ''}>
              <a class="hover:underline" href={place.href(of ? '/tables/' + a.object : '/subjects/' + a.subject)}
                >{name(a)}</a
              >
              {#if inside(a)}<button
                  class="btn ml-1 px-1.5 py-0 text-xs"
                  aria-expanded={unfolded.includes(a.object)}
                  onclick={() =>
                    (unfolded = unfolded.includes(a.object)
                      ? unfolded.filter((x) => x !== a.object)
                      : [...unfolded, a.object])}>{unfolded.includes(a.object) ? '▾' : '▸'} {inside(a)} tables</button
                >{/if}
            </td>
            <td>
              <button aria-label="Paths of {name(a)}" aria-expanded={opened === name(a)} onclick={() => open(a)}>
                <BandGlyph bands={a.bands} />
              </button>
            </td>
            <td class="text-sm" title={a.privileges.join(', ')}>{may(a.privileges)}</td>
            <td class="text-sm">{[a.rows, a.columns].filter(Boolean).join('; ') || a.bands.says}</td>
          </tr>
          {#if opened === name(a)}
            <tr>
              <td colspan="4" class="bg-raised">
                {#each paths ?? [] as p (p.says)}
                  <p class="py-0.5 text-sm">
                    {#each p.steps as step (step)}<a class="chip hover:underline" href={place.href('/subjects/' + step)}
                        >{step}</a
                      >
                      <span class="text-muted" aria-hidden="true">→</span>
                    {/each}
                    <span class="mono">{p.grant.privilege} on {p.grant.object}</span>
                    <span class="text-muted"
                      >{p.grant.grantor ? `by ${p.grant.grantor}, ${p.grant.at.slice(0, 10)}` : 'built in'}{p.grant
                        .ticket
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
        {:else}
          <tr
            ><td colspan="4" class="p-4 text-muted"
              >{of ? 'No rights yet. Give a role, or grant from a table’s page.' : 'Nobody.'}</td
            ></tr
          >
        {/each}
      </tbody>
    </table>
    {#if rows.length > most}<p class="p-2 text-sm text-muted">
        The first {most} of {rows.length}; filter to see the others.
      </p>{/if}
  </div>
{:else}
  <div class="panel h-40 animate-pulse bg-raised" aria-busy="true"></div>
{/if}
