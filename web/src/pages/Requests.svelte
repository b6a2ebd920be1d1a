<script lang="ts">
  import { dayOf, endOf, momentOf } from '../lib/dates'
  import { api, get, type Changed, type Problem, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { fetched, loaded } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import { scrollable } from '../lib/scrollable'
  import AskForm from '../parts/AskForm.svelte'
  import ChangeDialog from '../parts/ChangeDialog.svelte'
  import Trouble from '../parts/Trouble.svelte'

  // What people ask to be given: one's own requests, and those that are one's to decide.
  type Requested = Schemas['WireRequested']
  let status = $state<'' | Requested['status']>('')
  const list = loaded((signal) =>
    get(api.GET('/api/v1/requests', { signal, params: { query: { status: status || undefined } } })),
  )
  const number = $derived(Number(place.query.get('request')) || 0)
  let one = $state<Requested | null>(null)
  let problem = $state<Problem | null>(null)
  fetched(
    (signal) => {
      if (!number) {
        one = null
        open = ''
        return null
      }
      return get(api.GET('/api/v1/requests/{number}', { signal, params: { path: { number } } }))
    },
    (r) => {
      if (open && one?.number === r.number) return // what is being decided does not change under the hand
      if (one?.number !== r.number) {
        fix = 1
        until = word = ''
        open = ''
      }
      one = r
      problem = null
    },
    (p) => {
      one = null
      problem = p
    },
  )
  let fix = $state(1)
  let until = $state('')
  let word = $state('')
  let open = $state<'' | 'grant' | 'decline' | 'withdraw'>('')
  const verbs = { grant: 'Grant', decline: 'Decline', withdraw: 'Withdraw', '': '' }

  function send(dry: boolean): Promise<Changed> {
    const decision = open || 'grant'
    return get(
      api.POST('/api/v1/requests/{number}/decision', {
        params: { path: { number } },
        body: {
          decision,
          fix: decision === 'grant' ? fix : undefined,
          until: decision === 'grant' ? endOf(until) : undefined,
          word: word || undefined,
          dry_run: dry || undefined,
        },
      }),
    )
  }
  const states: Record<Requested['status'], [string, string]> = {
    open: ['○', 'text-feldspar'],
    granted: ['●', 'text-epidote'],
    declined: ['⊘', 'text-garnet'],
    withdrawn: ['–', 'text-muted'],
  }
  const day = (at: string) => momentOf(at)
  const yours = $derived((list.value?.items ?? []).filter((r) => r.own))
  const others = $derived((list.value?.items ?? []).filter((r) => !r.own))
</script>

{#snippet lines(items: Requested[])}
  {#each items as r (r.number)}
    <li>
      <a
        class="block p-2.5 hover:bg-raised {r.number === number ? 'bg-raised' : ''}"
        href={place.href('/requests', { request: String(r.number) })}
      >
        <span class="flex justify-between gap-3">
          <span><b class="mono">{r.by}</b> asks for <span class="mono">{r.asks}</span></span>
          <span class="whitespace-nowrap {states[r.status][1]}">{states[r.status][0]} {r.status}</span>
        </span>
        <span class="text-sm text-muted">{day(r.at)}: {r.reason}</span>
      </a>
    </li>
  {/each}
{/snippet}

<div class="h-full overflow-y-auto p-5" use:scrollable={'Requests'}>
  <div class="mb-3 flex items-center gap-3">
    <h1>Requests</h1>
    <select class="field ml-auto w-40" bind:value={status} aria-label="Status">
      <option value="">All</option>
      {#each Object.keys(states) as s (s)}<option value={s} class="first-letter:uppercase">{s}</option>{/each}
    </select>
  </div>
  {#if list.problem}<Trouble problem={list.problem} />{/if}
  <div class="grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] items-start gap-5 max-[1000px]:grid-cols-1">
    <div class="flex flex-col gap-5">
      {#if others.length}
        <section aria-label="To decide">
          <h2 class="mb-2">Yours to decide</h2>
          <ul class="panel divide-y divide-line">{@render lines(others)}</ul>
        </section>
      {/if}
      <section aria-label="Your own">
        <h2 class="mb-2">Your own</h2>
        <ul class="panel divide-y divide-line">
          {@render lines(yours)}
          {#if !yours.length}<li class="p-3 text-muted">You have asked for nothing.</li>{/if}
        </ul>
      </section>
      <section aria-label="Ask" class="panel p-3">
        <h2 class="mb-2">Ask for access</h2>
        <AskForm onasked={(r) => place.go('/requests', { request: String(r.number) })} />
      </section>
    </div>
    {#if problem}<Trouble {problem} />{/if}
    {#if one}
      <section class="panel flex flex-col gap-3 p-4" aria-label="Request {one.number}">
        <h2>Request {one.number} of <span class="mono">{one.by}</span></h2>
        <p><span class="mono">{one.asks}</span></p>
        <p class="text-muted">{one.reason}</p>
        {#if one.reference}<p class="text-sm text-muted">
            From the refusal <a class="underline" href={place.href('/audit', { record: one.reference })}
              >{one.reference}</a
            >
          </p>{/if}
        {#if one.status !== 'open'}
          <p class={states[one.status][1]}>
            {states[one.status][0]}
            {one.status}{one.decided_by ? ' by ' + one.decided_by : ''}{one.decided
              ? ', ' + day(one.decided)
              : ''}{one.until ? ', until ' + dayOf(one.until) : ''}{one.word ? ': ' + one.word : ''}
          </p>
        {:else if one.decides}
          {#if one.note}<p class="text-feldspar">{one.note}</p>{/if}
          {#if one.missing.length}<p>
              Missing: {#each one.missing as m (m)}<span class="chip mr-1">{m}</span>{/each}
            </p>{/if}
          {#if one.nearest.length}
            <div>
              <p class="mb-1 text-sm text-muted">How the nearest colleagues have it</p>
              <ul class="flex flex-col gap-1 text-sm">
                {#each one.nearest as n (n)}<li class="mono">{n}</li>{/each}
              </ul>
            </div>
          {/if}
          {#if one.fixes.length}
            <fieldset class="flex flex-col gap-1">
              <legend class="mb-1 text-sm text-muted">Ways to grant it, smallest first</legend>
              {#each one.fixes as f, i (i)}
                <label><input type="radio" bind:group={fix} value={i + 1} /> {f.says}</label>
              {/each}
            </fieldset>
          {/if}
          <div class="flex gap-2">
            {#if one.fixes.length}<button type="button" class="btn btn-main" onclick={() => (open = 'grant')}
                >Grant …</button
              >{/if}
            <button type="button" class="btn" onclick={() => (open = 'decline')}>Decline …</button>
          </div>
        {:else if one.own}
          <p class="text-muted">Who manages it has been told, and decides.</p>
          <div><button type="button" class="btn" onclick={() => (open = 'withdraw')}>Withdraw</button></div>
        {/if}
      </section>
    {/if}
  </div>
</div>

{#if one && open}
  <ChangeDialog
    bind:open={() => !!open, (shown) => (open = shown ? open : '')}
    title="{verbs[open]} request {one.number}"
    verb={verbs[open]}
    asked={JSON.stringify([open, fix, until, word])}
    ready={open !== 'decline' || !!word.trim()}
    {send}
    sentence
    ondone={() => {
      open = ''
      changes.count++
    }}
  >
    {#if open === 'grant'}
      <label class="text-sm text-muted"
        >Until <input class="field text-ink" type="date" bind:value={until} /> (without end when not given)</label
      >
    {/if}
    {#if open !== 'withdraw'}
      <label class="text-sm text-muted"
        >A word for {one.by}
        <input class="field w-full text-ink" bind:value={word} required={open === 'decline'} maxlength="2000" /></label
      >
    {/if}
  </ChangeDialog>
{/if}
