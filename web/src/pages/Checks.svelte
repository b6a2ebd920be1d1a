<script lang="ts">
  import { api, get, says, type Problem, type Schemas } from '../lib/api'
  import { fetched } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import { scrollable } from '../lib/scrollable'
  import { signed } from '../lib/session.svelte'
  import BaselineDialog from '../parts/BaselineDialog.svelte'
  import ChangeButton from '../parts/ChangeButton.svelte'
  import ChangeDialog from '../parts/ChangeDialog.svelte'
  import GuardrailDialog from '../parts/GuardrailDialog.svelte'
  import Trouble from '../parts/Trouble.svelte'

  // What must stay true: guardrails and access tests, with what came of them just now.
  type Result = Schemas['WireCheckResult']
  let checks = $state<Schemas['WireChecks'] | null>(null)
  let results = $state<Schemas['WireCheckResults'] | null>(null)
  let problem = $state<Problem | null>(null)
  let running = $state(false)
  let failing = $state(false)
  let editing = $state<Schemas['WireGuardrail'] | null>(null)
  let guarding = $state(false)
  let recording = $state(false)
  let removing = $state<{ kind: string; name: string } | null>(null)
  let open = $state(false)
  const admin = $derived(!!signed.session?.administrator)

  const failed = (p: Problem) => (problem = p)
  fetched(
    (signal) => get(api.GET('/api/v1/checks', { signal })),
    (list) => {
      checks = list
      problem = null
    },
    failed,
  )
  fetched(
    (signal) => get(api.GET('/api/v1/check-results', { signal })),
    (list) => (results = list),
    failed,
  )
  async function run() {
    running = true
    try {
      results = await get(api.GET('/api/v1/check-results', {}))
      problem = null
    } catch (error) {
      problem = says(error)
    }
    running = false
  }
  const result = (kind: string, name: string): Result | undefined =>
    results?.results.find((r) => r.kind === kind && r.name === name)
  const marks: Record<string, [string, string]> = {
    holds: ['●', 'text-epidote'],
    fails: ['⊘', 'text-garnet'],
    unknown: ['?', 'text-muted'],
  }
  type Line = { kind: 'guardrail' | 'test'; name: string; sentence: string; mode?: string; comment?: string }
  const sections = $derived<{ title: string; none: string; lines: Line[] }[]>([
    {
      title: 'Guardrails',
      none: 'No guardrail yet. One states what must hold for everyone, now and after every change.',
      lines: (checks?.guardrails ?? []).map((g) => ({ ...g, kind: 'guardrail', sentence: g.sentence ?? '' })),
    },
    {
      title: 'Access tests',
      none: 'No access test yet. Record how things stand for a person and a table, and hear when it changes.',
      lines: (checks?.tests ?? []).map((t) => ({ ...t, kind: 'test', sentence: t.sentence ?? '' })),
    },
  ])
  const shown = (l: Line) => !failing || result(l.kind, l.name)?.status !== 'holds'
  function change(l: Line) {
    editing = checks?.guardrails.find((g) => g.name === l.name) ?? null
    guarding = true
  }
  const remove = (dry: boolean) => {
    const params = { path: { name: removing!.name }, query: { dry_run: dry } }
    return removing!.kind === 'test'
      ? get(api.DELETE('/api/v1/access-tests/{name}', { params }))
      : get(api.DELETE('/api/v1/guardrails/{name}', { params }))
  }
  function rerecord(l: Line, dry: boolean) {
    const { name, subject, role, purpose, table } = checks!.tests.find((x) => x.name === l.name)!
    return get(
      api.POST('/api/v1/access-tests/baseline', {
        body: { name, subject, role, purpose, table, replace: true, dry_run: dry || undefined },
      }),
    )
  }
</script>

<div class="h-full overflow-y-auto p-5" use:scrollable={'Checks'}>
  <div class="mb-3 flex flex-wrap items-center gap-3">
    <h1 class="mr-2">Checks</h1>
    {#if results}
      <span class={results.failed ? 'text-garnet' : 'text-epidote'} role="status"
        >{results.failed
          ? `⊘ ${results.failed} of ${results.results.length} ${results.failed === 1 ? 'does' : 'do'} not hold`
          : `● all ${results.results.length} hold`}</span
      >
    {/if}
    <label class="flex items-center gap-1 text-sm"><input type="checkbox" bind:checked={failing} /> only those</label>
    <button type="button" class="btn ml-auto" disabled={running} onclick={run}
      >{running ? 'Running …' : 'Run again'}</button
    >
    {#if admin}
      <button type="button" class="btn" onclick={() => (recording = true)}>Record a test …</button>
      <button
        type="button"
        class="btn btn-main"
        onclick={() => {
          editing = null
          guarding = true
        }}>Add a guardrail …</button
      >
    {/if}
  </div>
  {#if problem}<div class="mb-3"><Trouble {problem} /></div>{/if}
  {#if checks}
    {#each sections as s (s.title)}
      <h2 class="mb-2">{s.title}</h2>
      {#if s.lines.length}
        <ul class="panel mb-5 divide-y divide-line" aria-label={s.title}>
          {#each s.lines.filter(shown) as l (l.name)}
            {@const r = result(l.kind, l.name)}
            {@const [mark, color] = marks[r?.status ?? 'unknown']!}
            <li class="grid grid-cols-[1.25rem_minmax(0,1fr)_auto] gap-x-2 px-3 py-2">
              <span class={color} title={r?.status}>{mark}</span>
              <div>
                <p>
                  <span class="mono">{l.name}</span>{#if l.mode}<span class="chip ml-2">{l.mode}</span>{/if}
                </p>
                <p class={l.kind === 'guardrail' ? 'first-letter:uppercase' : ''}>{l.sentence}.</p>
                {#each r?.says ?? [] as line, i (i)}<p class="text-sm text-garnet first-letter:uppercase">
                    {line}.
                  </p>{/each}
                {#if l.comment}<p class="text-sm text-muted">{l.comment}</p>{/if}
              </div>
              {#if admin}
                <div class="flex items-start gap-2">
                  {#if l.kind === 'guardrail'}<button type="button" class="btn py-0 text-sm" onclick={() => change(l)}
                      >Edit</button
                    >
                  {:else if r?.status === 'fails'}<ChangeButton
                      title="Record {l.name} again"
                      verb="Record again"
                      none="Nobody’s access changes: it states from now on what they get now."
                      send={(dry) => rerecord(l, dry)}
                    />{/if}
                  <button
                    type="button"
                    class="btn px-2 py-0"
                    aria-label="Remove {l.name}"
                    onclick={() => {
                      removing = l
                      open = true
                    }}>×</button
                  >
                </div>
              {/if}
            </li>
          {:else}<li class="px-3 py-2 text-muted">All of these hold.</li>{/each}
        </ul>
      {:else}<p class="mb-5 max-w-prose text-muted">{s.none}</p>{/if}
    {/each}
    {#if place.moment.draft}<p class="text-sm text-muted">
        As they would come out with the draft {place.moment.draft}.
      </p>{/if}
  {:else if !problem}<div class="panel h-64 animate-pulse bg-raised" aria-busy="true"></div>{/if}
</div>
{#if guarding}{#key editing?.name}<GuardrailDialog bind:open={guarding} {editing} />{/key}{/if}
{#if recording}<BaselineDialog bind:open={recording} />{/if}
{#if removing && open}
  <ChangeDialog
    bind:open
    title="Remove {removing.name}"
    verb="Remove"
    asked={removing.name}
    none="Nobody’s access changes."
    send={remove}
  />
{/if}
