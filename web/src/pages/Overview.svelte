<script lang="ts">
  import { api, get, says, type AuditRecord, type Problem, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
  import Trouble from '../parts/Trouble.svelte'

  // What needs attention: findings, refusals, the last changes.
  let findings = $state<Schemas['WireFinding'][] | null>(null)
  let refusals = $state<AuditRecord[] | null>(null)
  let made = $state<AuditRecord[] | null>(null)
  let problem = $state<Problem | null>(null)
  let kind = $state('')

  $effect(() => {
    void changes.count
    const failed = (error: unknown) => (problem = says(error))
    if (signed.session?.reviewer) {
      get(api.GET('/api/v1/findings', {}))
        .then((list) => (findings = list.items))
        .catch(failed)
    }
    get(api.GET('/api/v1/records', { params: { query: { decision: 'refused', limit: 8 } } }))
      .then((list) => (refusals = list.items))
      .catch(failed)
    get(api.GET('/api/v1/records', { params: { query: { action: 'change', limit: 8 } } }))
      .then((list) => (made = list.items))
      .catch(failed)
  })

  const kinds: Record<string, string> = {
    dormant: 'grants without effect',
    broken: 'policies that no longer fit',
    uncovered: 'labelled columns that no policy treats',
    lent: 'policies whose writer has lost a right',
    broad: 'broad grants',
    to_public: 'grants to everyone',
    to_user: 'grants straight to users',
    redundant: 'redundant grants',
    no_holders: 'roles and groups without members',
    no_sign_in: 'accounts that cannot sign in',
    alike_names: 'names that look like a typo',
    no_end: 'memberships without an end',
    administrators: 'many administrators',
  }
  const counts = $derived(
    Object.keys(kinds)
      .map((k) => ({ kind: k, n: (findings ?? []).filter((f) => f.kind === k).length }))
      .filter((c) => c.n > 0),
  )
  const shown = $derived((findings ?? []).filter((f) => !kind || f.kind === kind))
  const where = (f: Schemas['WireFinding']) =>
    f.subject ? (f.subject.startsWith('role:') ? '/roles/' : '/subjects/') + f.subject : '/tables/' + f.object
</script>

<div class="h-full overflow-y-auto p-5">
  <h1 class="mb-3">Overview</h1>
  {#if problem}<Trouble {problem} />{/if}
  <div class="grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] items-start gap-5 max-[1000px]:grid-cols-1">
    {#if signed.session?.reviewer}
      <section aria-label="Findings">
        <h2 class="mb-2">Findings</h2>
        <div class="mb-2 flex flex-wrap gap-1.5">
          {#each counts as c (c.kind)}
            <button
              class="btn py-0 text-sm {kind === c.kind ? 'border-garnet! bg-garnet-wash!' : ''}"
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
              <p class="text-sm text-muted">{f.why}</p>
              {#each f.fix as command (command)}<code class="mono mt-0.5 block text-xs! text-muted">$ {command}</code
                >{/each}
            </li>
          {:else}
            <li class="p-3 text-muted">{findings ? 'No findings.' : 'Loading …'}</li>
          {/each}
        </ul>
      </section>
    {/if}
    <div class="flex flex-col gap-5">
      <section aria-label="Refusals">
        <h2 class="mb-2">Recent refusals</h2>
        <ul class="panel divide-y divide-line">
          {#each refusals ?? [] as r (r.id)}
            <li class="p-2.5">
              <a
                class="flex justify-between gap-3 hover:underline"
                href={place.href('/audit', { record: r.reference })}
              >
                <span class="mono">{r.standpoint || r.actor}</span><span class="text-xs text-muted"
                  >{new Date(r.at).toLocaleString('sv')}</span
                >
              </a>
              <p class="truncate text-sm text-muted" title={r.text}>{r.reason || r.text}</p>
            </li>
          {:else}
            <li class="p-3 text-muted">{refusals ? 'Nobody was refused.' : 'Loading …'}</li>
          {/each}
        </ul>
      </section>
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
