<script lang="ts">
  import { api, get } from '../lib/api'
  import { fetched } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import { recent } from '../lib/recent.svelte'
  import { subjects } from '../lib/subjects.svelte'

  // What to do on a new platform, in order. Each step says when it is done; the list goes
  // when all are.
  let sources = $state<number | null>(null)
  let tables = $state(0)
  let grants = $state<number | null>(null)
  fetched(
    (signal) => get(api.GET('/api/v1/sources', { signal })),
    (list) => {
      sources = list.items.length
      tables = list.items.reduce((sum, s) => sum + s.tables, 0)
    },
    () => {},
  )
  fetched(
    (signal) => get(api.GET('/api/v1/grants', { signal, params: { query: { limit: 50 } } })),
    (list) => (grants = list.items.filter((g) => g.grantor && !g.owns).length),
    () => {},
  )
  $effect(() => void subjects.load().catch(() => {}))

  const people = $derived(subjects.all.filter((s) => s.kind === 'user').length)
  const builtIn = ['role:administrator', 'role:auditor']
  const roles = $derived(subjects.all.filter((s) => s.kind === 'role' && !builtIn.includes(s.ref)))
  const steps = $derived<{ name: string; does: string; href: string; done: boolean }[]>([
    {
      name: 'Connect a source',
      does: 'a folder of SQLite files, or a PostgreSQL database',
      href: '/settings/sources',
      done: !!sources,
    },
    { name: 'Look at its tables', does: 'a scan has found them', href: '/tables', done: tables > 0 },
    { name: 'Add people', does: 'one by one, or from a file', href: '/subjects', done: people > 1 },
    {
      name: 'Make a role',
      does: 'rights are given to roles, and roles to people',
      href: '/roles',
      done: roles.length > 0,
    },
    {
      name: 'Grant it something',
      does: 'a grant covers what is below, present and future',
      href: '/tables',
      done: !!grants,
    },
    {
      name: 'Give it to somebody',
      does: 'on the page of the role',
      href: roles[0] ? '/roles/' + roles[0].ref : '/roles',
      done: roles.some((r) => r.holders > 0),
    },
    {
      name: 'View as them',
      does: 'with the bar at the top, before they sign in',
      href: '/tables',
      done: recent.list.some((at) => !!at.as),
    },
  ])
  const known = $derived(sources !== null && grants !== null && subjects.all.length > 0)
  // A platform where only the last is open is no new one.
  const shown = $derived(known && steps.slice(0, -1).some((s) => !s.done))
  const next = $derived(steps.findIndex((s) => !s.done))
</script>

{#if shown}
  <section class="panel mb-5 p-4" aria-label="First steps">
    <h2 class="mb-2">First steps</h2>
    <ol class="flex flex-col gap-1.5">
      {#each steps as s, i (s.name)}
        <li class="flex items-baseline gap-2">
          <span class={s.done ? 'text-epidote' : 'text-muted'} aria-hidden="true">{s.done ? '●' : '○'}</span>
          <a class="hover:underline {i === next ? 'font-semibold' : ''}" href={place.href(s.href)}>{s.name}</a>
          <span class="text-sm text-muted">{s.done ? 'done' : s.does}</span>
        </li>
      {/each}
    </ol>
  </section>
{/if}
