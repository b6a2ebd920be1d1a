<script lang="ts">
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

  const failed = (p: Problem) => (problem = p)
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
  <div class="grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] items-start gap-5 max-[1000px]:grid-cols-1">
    {#if signed.session?.reviewer}
      <section aria-label="Findings">
        <h2 class="mb-2">Findings</h2>
        <div class="mb-2 flex flex-wrap gap-1.5">
          {#each counts as c (c.kind)}
            <button
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
                  {#each f.fixes as fix (fix.says)}<li><FixButton {fix} /></li>{/each}
                </ul>
              {:else}
                {#each f.fixes as fix (fix.says)}<p class="text-sm text-muted first-letter:uppercase">
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
                    >{new Date(r.at).toLocaleString('sv')}</span
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
                <span class="mono">{r.actor}</span>, {new Date(r.at).toLocaleString('sv')}
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
