<script lang="ts">
  import { momentOf } from '../lib/dates'
  import { scrollable } from '../lib/scrollable'
  import { api, get, type AuditRecord, type Problem, type Schemas } from '../lib/api'
  import { fetched } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
  import FirstSteps from '../parts/FirstSteps.svelte'
  import FixButton from '../parts/FixButton.svelte'
  import Trouble from '../parts/Trouble.svelte'

  // What needs attention: findings, refusals, the last changes.
  let findings = $state<Schemas['WireFinding'][] | null>(null)
  let refusals = $state<AuditRecord[] | null>(null)
  let made = $state<AuditRecord[] | null>(null)
  let problem = $state<Problem | null>(null)
  let kind = $state('')

  let asked = $state<Schemas['WireRequested'][]>([])
  let reviews = $state<Schemas['WireReview'][]>([])
  let drafts = $state<Schemas['WireDraft'][]>([])
  let recorded = $state<Schemas['WireRecordCounts'] | null>(null)

  const failed = (p: Problem) => (problem = p)
  fetched(
    (signal) => get(api.GET('/api/v1/requests', { signal, params: { query: { status: 'open' } } })),
    (list) => (asked = list.items),
    failed,
  )
  fetched(
    (signal) => get(api.GET('/api/v1/reviews', { signal })),
    (list) => (reviews = list.items.filter((r) => r.status === 'open' && (r.yours || signed.session?.administrator))),
    failed,
  )
  fetched(
    (signal) => get(api.GET('/api/v1/drafts', { signal })),
    (list) => (drafts = list.items.filter((d) => d.status === 'open')),
    failed,
  )
  fetched(
    (signal) => (signed.session?.auditor ? get(api.GET('/api/v1/record-counts', { signal })) : null),
    (c) => (recorded = c),
    failed,
  )
  // What needs somebody today: each leads to where it is done.
  const waiting = $derived([
    ...asked.map((r) => ({
      key: 'request ' + r.number,
      says: r.own ? `You asked for ${r.asks}` : `${r.by} asks for ${r.asks}: ${r.reason}`,
      verb: r.own ? 'Look' : 'Decide',
      href: place.href('/requests', { request: String(r.number) }),
      late: false,
    })),
    ...reviews.map((r) => ({
      key: 'review ' + r.name,
      says: `Review ${r.name} of ${r.says}: ${r.decided} of ${r.items} decided, due on ${r.due}`,
      verb: r.yours ? 'Review' : 'Look',
      href: place.href('/reviews/' + encodeURIComponent(r.name)),
      late: r.late,
    })),
    ...drafts.map((d) => ({
      key: 'draft ' + d.name,
      says: `Draft ${d.name} of ${d.by} waits, with ${d.steps.length} changes: ${d.reason ?? ''}`,
      verb: 'Look',
      href: place.href('/drafts/' + encodeURIComponent(d.name)),
      late: false,
    })),
    ...(recorded?.unusual ?? [])
      .filter((u) => u.day >= new Date(Date.now() - 14 * 86_400_000).toISOString().slice(0, 10))
      .slice(0, 4)
      .map((u) => ({
        key: [u.day, u.kind, u.actor, u.label, u.address].join(),
        says: `${u.day}: ${u.says}`,
        verb: 'Look',
        href: place.href('/audit'),
        late: u.kind === 'far_above',
      })),
  ])
  const weeks = (list: number[]) => {
    const sums: number[] = []
    for (let i = list.length; i > 0; i -= 7) sums.unshift(list.slice(Math.max(0, i - 7), i).reduce((a, b) => a + b, 0))
    return sums
  }
  const moved = $derived(
    recorded
      ? [
          { name: 'Statements', values: weeks(recorded.queries) },
          { name: 'Refusals', values: weeks(recorded.refused) },
          { name: 'Changes', values: weeks(recorded.changes) },
          ...recorded.labels
            .filter((l) => l.level === 'restricted' || l.level === 'confidential')
            .map((l) => ({ name: `Rows of ${l.name.replace('label:', '')}`, values: weeks(l.rows) })),
        ]
      : [],
  )
  fetched(
    (signal) => (signed.session?.reviewer ? get(api.GET('/api/v1/findings', { signal })) : null),
    (list) => (findings = list.items),
    failed,
  )
  fetched(
    (signal) => get(api.GET('/api/v1/records', { signal, params: { query: { decision: 'refused', limit: 40 } } })),
    (list) => (refusals = list.items),
    failed,
  )
  fetched(
    (signal) => get(api.GET('/api/v1/records', { signal, params: { query: { action: 'change', limit: 8 } } })),
    (list) => (made = list.items),
    failed,
  )

  const kinds: Record<string, string> = {
    guardrail: 'guardrails that are broken',
    dormant: 'grants without effect',
    broken: 'policies that no longer fit',
    uncovered: 'labelled columns that no policy treats',
    past_policies: 'routines that may read past policies',
    refreshed: 'kept rows of other tables',
    lent: 'policies whose writer has lost a right',
    broad: 'broad grants',
    to_public: 'grants to everyone',
    to_user: 'grants straight to users',
    redundant: 'redundant grants',
    test: 'access tests that fail',
    unused: 'rights that nobody used',
    too_wide: 'grants wider than their use',
    no_holders: 'roles and groups without members',
    no_sign_in: 'accounts that cannot sign in',
    alike_names: 'names that look like a typo',
    no_end: 'memberships without an end',
    administrators: 'many administrators',
  }
  // A right that is missing can be given; a statement that is wrong is for its writer to correct.
  const lacking = $derived((refusals ?? []).filter((r) => r.missing.length > 0).slice(0, 6))
  const wrong = $derived((refusals ?? []).filter((r) => r.missing.length === 0).slice(0, 6))
  const counts = $derived(
    Object.keys(kinds)
      .map((k) => ({ kind: k, n: (findings ?? []).filter((f) => f.kind === k).length }))
      .filter((c) => c.n > 0),
  )
  const shown = $derived((findings ?? []).filter((f) => !kind || f.kind === kind))
  const where = (f: Schemas['WireFinding']) =>
    f.subject ? (f.subject.startsWith('role:') ? '/roles/' : '/subjects/') + f.subject : '/tables/' + f.object
</script>

<div class="h-full overflow-y-auto p-5" use:scrollable={'Overview'}>
  <h1 class="mb-3">Overview</h1>
  {#if problem}<Trouble {problem} />{/if}
  {#if signed.session?.administrator}<FirstSteps />{/if}
  {#if waiting.length || moved.length}
    <div class="mb-5 grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] items-start gap-5 max-[1000px]:grid-cols-1">
      <section aria-label="Today">
        <h2 class="mb-2">Needs somebody</h2>
        <ul class="panel divide-y divide-line">
          {#each waiting as w (w.key)}
            <li class="flex items-center justify-between gap-3 px-3 py-2">
              <span class={w.late ? 'text-garnet' : ''}>{w.late ? '▲ ' : ''}{w.says}</span>
              <a class="btn py-0 text-sm" href={w.href}>{w.verb}</a>
            </li>
          {:else}<li class="p-3 text-muted">Nothing waits.</li>{/each}
        </ul>
      </section>
      {#if moved.length}
        <section aria-label="Movement">
          <h2 class="mb-2">The last weeks</h2>
          <ul class="panel divide-y divide-line">
            {#each moved as m (m.name)}
              {@const most = Math.max(...m.values, 1)}
              <li class="flex items-center gap-3 px-3 py-1.5">
                <span class="w-36 truncate">{m.name}</span>
                <svg
                  class="h-6 flex-1"
                  viewBox="0 0 {m.values.length * 10} 24"
                  preserveAspectRatio="none"
                  role="img"
                  aria-label="{m.name} by week: {m.values.join(', ')}"
                >
                  {#each m.values as v, i (i)}<rect
                      x={i * 10 + 1}
                      width="8"
                      y={24 - (22 * v) / most}
                      height={Math.max((22 * v) / most, 0.5)}
                      fill={i === m.values.length - 1 ? 'var(--garnet)' : 'var(--line-strong)'}
                      ><title>{v.toLocaleString('en')}</title></rect
                    >{/each}
                </svg>
                <span class="w-16 text-right tabular-nums">{m.values.at(-1)?.toLocaleString('en')}</span>
              </li>
            {/each}
          </ul>
        </section>
      {/if}
    </div>
  {/if}
  <div class="grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] items-start gap-5 max-[1000px]:grid-cols-1">
    {#if signed.session?.reviewer}
      <section aria-label="Findings">
        <h2 class="mb-2">Findings</h2>
        <div class="mb-2 flex flex-wrap gap-1.5">
          {#each counts as c (c.kind)}
            <button
              type="button"
              class="btn py-0 text-sm"
              aria-pressed={kind === c.kind}
              onclick={() => (kind = kind === c.kind ? '' : c.kind)}
              ><span class="first-letter:uppercase">{kinds[c.kind]}</span> <b>{c.n}</b></button
            >
          {/each}
        </div>
        <ul class="panel divide-y divide-line">
          {#each shown as f, i (i)}
            <li class="p-3">
              <p class="font-medium">
                <a class="hover:underline" href={place.href(where(f))}>{f.says}</a>.
              </p>
              <p class="text-sm text-muted first-letter:uppercase">{f.why}.</p>
              {#if signed.session?.administrator && f.fixes.length}
                <ul class="mt-1 flex flex-wrap gap-x-4 gap-y-1">
                  {#each f.fixes as fix, i (i)}<li><FixButton {fix} /></li>{/each}
                </ul>
              {:else}
                {#each f.fixes as fix, i (i)}<p class="text-sm text-muted first-letter:uppercase">
                    {fix.says}.
                  </p>{/each}
              {/if}
            </li>
          {:else}
            <li class="p-3 text-muted">{findings ? 'No findings.' : 'Loading …'}</li>
          {/each}
        </ul>
      </section>
    {/if}
    <div class="flex flex-col gap-5">
      {#each [['Missing rights', lacking, 'Nobody lacked a right.'], ['Other refusals', wrong, 'None.']] as const as [title, list, none] (title)}
        <section aria-label={title}>
          <h2 class="mb-2">{title}</h2>
          <ul class="panel divide-y divide-line">
            {#each list as r (r.id)}
              <li class="p-2.5">
                <a
                  class="flex justify-between gap-3 hover:underline"
                  href={place.href('/audit', { record: r.reference })}
                >
                  <span class="mono">{r.standpoint || r.actor}</span><span class="text-xs text-muted"
                    >{momentOf(r.at)}</span
                  >
                </a>
                <p class="truncate text-sm text-muted" title={r.text}>
                  {#each r.missing as m (m)}<span class="chip mr-1">{m}</span>{:else}{r.reason || r.text}{/each}
                </p>
              </li>
            {:else}
              <li class="p-3 text-muted">{refusals ? none : 'Loading …'}</li>
            {/each}
          </ul>
        </section>
      {/each}
      <section aria-label="Changes">
        <h2 class="mb-2">Recent changes</h2>
        <ul class="panel divide-y divide-line">
          {#each made ?? [] as r (r.id)}
            <li class="p-2.5">
              <p class="first-letter:uppercase">{r.text}</p>
              <p class="text-xs text-muted">
                <span class="mono">{r.actor}</span>, {momentOf(r.at)}
              </p>
            </li>
          {:else}
            <li class="p-3 text-muted">{made ? 'No changes yet.' : 'Loading …'}</li>
          {/each}
        </ul>
      </section>
    </div>
  </div>
</div>
