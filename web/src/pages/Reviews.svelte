<script lang="ts">
  import { flushSync } from 'svelte'
  import { api, get, says, type Changed, type Problem, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { fetched, loaded } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import { scrollable } from '../lib/scrollable'
  import { signed } from '../lib/session.svelte'
  import { windowed } from '../lib/windowed.svelte'
  import ChangeDialog from '../parts/ChangeDialog.svelte'
  import Modal from '../parts/Modal.svelte'
  import OpenReview from '../parts/OpenReview.svelte'
  import SubjectPicker from '../parts/SubjectPicker.svelte'
  import Trouble from '../parts/Trouble.svelte'

  // Reviews of access: made for deciding hundreds of items an hour by keyboard.
  type Item = Schemas['WireReviewItem']
  type Page = Schemas['WireReviewPage']
  const name = $derived(decodeURIComponent(place.path.split('/')[2] ?? ''))
  const list = loaded((signal) => get(api.GET('/api/v1/reviews', { signal })))
  let page = $state.raw<Page | null>(null)
  let items = $state.raw<Item[]>([])
  let problem = $state<Problem | null>(null)
  let only = $state<'open' | 'yours' | 'all' | 'revoke'>('all')
  let at = $state(0)
  let chosen = $state<Record<number, boolean>>({})
  let word = $state('')
  let until = $state('')
  let verified = $state<Schemas['WireReviewVerified'] | null>(null)
  const admin = $derived(!!signed.session?.administrator)

  fetched(
    (signal) => {
      if (!name) {
        page = null
        return null
      }
      return get(api.GET('/api/v1/reviews/{name}', { signal, params: { path: { name }, query: { all: true } } }))
    },
    (p) => {
      if (page?.name !== p.name) {
        at = 0
        chosen = {}
        verified = null
      }
      page = p
      items = p.list
      problem = null
    },
    (p) => (problem = p),
  )
  const shown = $derived(
    items.filter((i) =>
      only === 'open'
        ? !i.decision
        : only === 'yours'
          ? i.yours && !i.decision
          : only === 'revoke'
            ? i.decision === 'revoke' || i.decision === 'until'
            : true,
    ),
  )
  const picked = $derived(shown.filter((i) => chosen[i.number]))
  const targets = $derived(picked.length ? picked : shown[at] ? [shown[at]!] : [])
  let scroller = $state<HTMLElement | null>(null)
  // On paper all of it stands, and not what is in view alone.
  let printing = $state(false)
  const view = windowed(
    () => shown.length,
    () => scroller,
    52,
  )

  // Decisions are sent one after the other, and shown at once: whoever decides need not wait. Where one
  // is refused, the page shows again what is so.
  let sending: Promise<void> = Promise.resolve()
  let waiting = 0
  function decide(decision: 'keep' | 'revoke' | 'until' | 'undo' | 'hand', to = '', about: Item[] = targets) {
    const numbers = about.map((i) => i.number)
    const review = page?.name ?? '' // another may be on the page when this is sent
    if (!page || page.status !== 'open' || !numbers.length) return
    const body = {
      items: numbers,
      decision,
      until: decision === 'until' ? until : undefined,
      to: to || undefined,
      word: word || undefined,
      version: page.version,
    }
    const next = at + 1
    const few = shown.length
    if (decision !== 'hand')
      items = items.map((i) =>
        numbers.includes(i.number)
          ? {
              ...i,
              decision: decision === 'undo' ? undefined : decision,
              end: body.until,
              word: decision === 'undo' ? undefined : body.word,
            }
          : i,
      )
    // What is decided may no longer be among what is shown; then the next is where it was.
    if (numbers.length === 1 && decision !== 'undo' && shown.length === few) at = Math.min(next, shown.length - 1)
    else at = Math.min(at, Math.max(shown.length - 1, 0))
    chosen = {}
    word = ''
    view.show(at)
    waiting++
    sending = sending.then(async () => {
      try {
        await get(api.POST('/api/v1/reviews/{name}/decisions', { params: { path: { name: review } }, body }))
        problem = null
      } catch (error) {
        problem = says(error)
      }
      if (--waiting > 0 || page?.name !== review) return
      try {
        const now = await get(
          api.GET('/api/v1/reviews/{name}', { params: { path: { name: review }, query: { all: true } } }),
        )
        if (waiting === 0 && page?.name === review) {
          page = now
          items = now.list
        }
      } catch (error) {
        problem = says(error)
      }
    })
  }

  let ending = $state(false)
  let handing = $state(false)
  let handTo = $state('')
  let closing = $state(false)
  let opening = $state(false)
  let draft = $state('')

  // The keys decide where the items are, and nowhere else: what is typed elsewhere decides nothing.
  const focused = (node: HTMLElement) => node.focus({ preventScroll: true })
  function key(event: KeyboardEvent) {
    const control = event.key === ' ' && (event.target as Element).closest('a, input')
    if (control || event.metaKey || event.ctrlKey || event.altKey || !page) return
    const step = (to: number) => {
      at = Math.min(Math.max(to, 0), shown.length - 1)
      view.show(at)
    }
    const does: Record<string, () => void> = {
      ArrowDown: () => step(at + 1),
      ArrowUp: () => step(at - 1),
      PageDown: () => step(at + 10),
      PageUp: () => step(at - 10),
      Home: () => step(0),
      End: () => step(shown.length - 1),
      k: () => decide('keep'),
      r: () => decide('revoke'),
      e: () => (ending = true),
      z: () => decide('undo'),
      h: () => (handing = true),
      ' ': () => {
        const i = shown[at]
        if (i) chosen = { ...chosen, [i.number]: !chosen[i.number] }
        step(at + 1)
      },
      a: () => {
        const via = shown[at]?.via
        chosen = Object.fromEntries(shown.filter((i) => i.via === via && !i.decision).map((i) => [i.number, true]))
      },
    }
    const act = does[event.key]
    if (!act) return
    event.preventDefault()
    event.stopPropagation()
    act()
  }

  async function verify() {
    try {
      verified = await get(api.GET('/api/v1/reviews/{name}/verification', { params: { path: { name } } }))
    } catch (error) {
      problem = says(error)
    }
  }
  const same = $derived(items.filter((i) => i.changed === 'same' && !i.decision))
  function keepSame() {
    decide('keep', '', same)
  }
  const close = (dry: boolean): Promise<Changed> =>
    get(
      api.POST('/api/v1/reviews/{name}/closing', {
        params: { path: { name } },
        body: { into: draft || undefined, dry_run: dry || undefined },
      }),
    )
  const marks: Record<string, [string, string]> = {
    keep: ['● keep', 'text-epidote'],
    revoke: ['⊘ revoke', 'text-garnet'],
    until: ['◐ until', 'text-feldspar'],
    '': ['○', 'text-muted'],
  }
  const looks: Record<string, string> = {
    unused: 'not used in 90 days',
    not_counted: 'use not counted: it serves to administer',
    direct: 'granted straight to a person',
    no_end: 'no end',
    everyone: 'everyone has it',
  }
</script>

<svelte:window onbeforeprint={() => flushSync(() => (printing = true))} onafterprint={() => (printing = false)} />

<div class="flex h-full flex-col gap-3 p-5">
  {#if !name}
    <div class="flex items-center gap-3">
      <h1>Reviews</h1>
      {#if admin}<button type="button" class="btn btn-main ml-auto" onclick={() => (opening = true)}
          >Open a review …</button
        >{/if}
    </div>
    <p class="max-w-prose text-muted">
      A review lists what people have in a scope, by the group or role that gives it to them. Reviewers keep or revoke
      it; closing makes that one revision, and signs the review into the journal.
    </p>
    {#if list.problem}<Trouble problem={list.problem} />{/if}
    <ul class="panel divide-y divide-line overflow-y-auto" use:scrollable={'Reviews'}>
      {#each list.value?.items ?? [] as r (r.name)}
        <li>
          <a class="block p-3 hover:bg-raised" href={place.href('/reviews/' + encodeURIComponent(r.name))}>
            <span class="flex justify-between gap-3">
              <b>{r.name}</b>
              {#if r.late}<span class="text-garnet">⊘ late, due on {r.due}</span>
              {:else if r.status === 'open'}<span>due on {r.due}</span>
              {:else}<span class="text-epidote">● signed by revision {r.signed}</span>{/if}
            </span>
            <span class="mono text-sm">{r.says}</span>
            <span class="mt-1 flex items-center gap-2 text-sm text-muted">
              <span class="h-1.5 w-40 rounded bg-line"
                ><span
                  class="block h-1.5 rounded bg-epidote"
                  style="width: {r.items ? (100 * r.decided) / r.items : 0}%"
                ></span></span
              >
              {r.decided} of {r.items} decided, {r.revokes} to revoke or end{r.yours ? `; ${r.yours} yours` : ''}
            </span>
            {#if r.status === 'open' && r.waiting.length}<span class="text-sm text-muted"
                >Waits for {r.waiting
                  .map((w) => `${w.reviewer || 'administrators'}${w.gone ? ', who is gone' : ''} (${w.open})`)
                  .join(', ')}</span
              >{/if}
          </a>
        </li>
      {:else}
        <li class="p-3 text-muted">{list.value ? 'There is no review.' : 'Loading …'}</li>
      {/each}
    </ul>
  {:else if page}
    <div class="flex flex-wrap items-center gap-3">
      <a class="underline" href={place.href('/reviews')}>Reviews</a>
      <h1>{page.name}</h1>
      <span class="mono text-sm text-muted">{page.says}</span>
      <span class="ml-auto text-sm {page.late ? 'text-garnet' : 'text-muted'}"
        >{page.status === 'open' ? `due on ${page.due}` : `closed by ${page.closed_by}`}; {page.decided} of {page.items} decided</span
      >
      {#if page.status === 'open'}
        {#if same.length}<button type="button" class="btn" onclick={keepSame}
            >Keep what did not change ({same.length})</button
          >{/if}
        {#if admin}<button type="button" class="btn btn-main" onclick={() => (closing = true)}>Close and sign …</button
          >{/if}
      {:else}<button type="button" class="btn" onclick={verify}>Verify the signature</button>{/if}
      <button type="button" class="btn" onclick={() => print()}>Print</button>
    </div>
    {#if verified}<p class={verified.holds ? 'text-epidote' : 'text-garnet'} role="status">
        {verified.holds ? '●' : '⊘'}
        {verified.says}. <span class="mono text-xs break-all">SHA-256 {verified.digest}</span>
      </p>{/if}
    {#if problem}<Trouble {problem} asks={false} />{/if}
    <div class="flex flex-wrap items-center gap-2 print:hidden">
      {#each [['all', 'All'], ['open', 'Not decided'], ['yours', 'Yours'], ['revoke', 'To revoke or end']] as const as [value, title] (value)}
        <button
          type="button"
          class="btn py-0 text-sm"
          aria-pressed={only === value}
          onclick={() => {
            only = value
            at = 0
            scroller?.focus()
          }}>{title}</button
        >
      {/each}
      {#if page.status === 'open'}
        <span class="ml-auto flex items-center gap-1 text-sm">
          <input class="field w-48 py-0" bind:value={word} placeholder="A word (optional)" aria-label="A word" />
          <button type="button" class="btn py-0" onclick={() => decide('keep')}>Keep <kbd>k</kbd></button>
          <button type="button" class="btn py-0" onclick={() => decide('revoke')}>Revoke <kbd>r</kbd></button>
          <button type="button" class="btn py-0" onclick={() => (ending = true)}>Until … <kbd>e</kbd></button>
          <button type="button" class="btn py-0" onclick={() => (handing = true)}>Hand on … <kbd>h</kbd></button>
          <button type="button" class="btn py-0" onclick={() => decide('undo')}>Undo <kbd>z</kbd></button>
        </span>
      {/if}
    </div>
    <div
      class="panel min-h-0 flex-1 overflow-y-auto outline-none! print:overflow-visible"
      bind:this={scroller}
      role="grid"
      aria-label="Items"
      aria-multiselectable="true"
      tabindex="0"
      onkeydown={key}
      use:focused
      aria-activedescendant={shown[at] ? 'item-' + shown[at]!.number : undefined}
    >
      <div style="height: {printing ? 0 : view.before}px"></div>
      {#each printing ? shown.map((_, index) => ({ index })) : view.items as v (shown[v.index]!.number)}
        {@const i = shown[v.index]!}
        <div
          id="item-{i.number}"
          role="row"
          aria-selected={!!chosen[i.number]}
          tabindex="-1"
          data-index={v.index}
          use:view.measured
          class="item grid cursor-default gap-3 border-b border-line px-3 py-1.5 text-sm {v.index === at
            ? 'bg-raised outline-2 -outline-offset-2 outline-garnet'
            : ''}"
          onclick={() => (at = v.index)}
          onkeydown={() => {}}
        >
          <span role="gridcell"
            ><input
              type="checkbox"
              tabindex="-1"
              aria-label="Select {i.subject}"
              checked={!!chosen[i.number]}
              onchange={() => (chosen = { ...chosen, [i.number]: !chosen[i.number] })}
            /></span
          >
          <span class="min-w-0" role="gridcell">
            <a class="mono font-semibold hover:underline" href={place.href('/subjects/' + i.subject)} tabindex="-1"
              >{i.subject}</a
            >
            {#if i.changed !== 'same'}<span class="chip">{i.changed}</span>{/if}
            <span class="block truncate text-muted">{i.via ? 'through ' + i.via : 'by grants of their own'}</span>
          </span>
          <span role="gridcell" class="mono min-w-0 text-xs leading-5" title={i.has.join('\n')}
            >{i.has.slice(0, printing ? undefined : 2).join(', ')}{i.has.length > 2 && !printing
              ? ` and ${i.has.length - 2} more`
              : ''}</span
          >
          <span class="min-w-0 text-muted" role="gridcell">
            <span class={i.findings.includes('unused') ? 'text-garnet' : ''}
              >{[
                i.queries ? `${i.queries} queries, last on ${i.last}` : '',
                ...i.findings.map((f) => (f === 'unused' ? '⊘ ' : '') + (looks[f] ?? f)),
              ]
                .filter(Boolean)
                .join('; ')}</span
            >
            <span class="block truncate text-xs"
              >since {i.since || 'the beginning'}{i.by ? ' by ' + i.by : ''}{i.ticket ? ', ' + i.ticket : ''}{i.reason
                ? ': ' + i.reason
                : ''}{i.before ? `; last time: ${i.before}` : ''}</span
            >
          </span>
          <span
            role="gridcell"
            class={marks[i.decision ?? '']![1]}
            title={[i.decider, i.word].filter(Boolean).join(': ')}
          >
            {marks[i.decision ?? '']![0]}
            {i.end ?? ''}
            <span class="block truncate text-xs text-muted"
              >{i.decision ? i.word || i.decider : i.yours ? 'yours' : (i.reviewer ?? '')}</span
            >
          </span>
        </div>
      {:else}
        <p class="p-4 text-muted">No item is like that.</p>
      {/each}
      <div style="height: {printing ? 0 : view.after}px"></div>
    </div>
    <p class="text-xs text-muted print:hidden">
      Arrow keys move; space selects; a selects all that are alike; k keeps, r revokes, e keeps until a day, h hands on,
      z takes back.
    </p>
  {:else if problem}<Trouble {problem} asks={false} />
  {:else}<p class="text-muted">Loading …</p>{/if}
</div>

{#if ending}
  <Modal bind:open={ending} title="Keep {targets.length} until a day">
    <form
      class="flex items-end gap-3"
      onsubmit={(e) => {
        e.preventDefault()
        ending = false
        decide('until')
      }}
    >
      <label class="text-sm text-muted"
        >Until <input class="field text-ink" type="date" bind:value={until} required /></label
      >
      <button type="submit" class="btn btn-main">Keep until then</button>
    </form>
  </Modal>
{/if}
{#if handing}
  <Modal bind:open={handing} title="Hand {targets.length} on">
    <form
      class="flex items-end gap-3"
      onsubmit={(e) => {
        e.preventDefault()
        handing = false
        decide('hand', handTo)
      }}
    >
      <span class="w-64"
        ><SubjectPicker
          bind:value={handTo}
          kinds={['user', 'role', 'group']}
          label="To whom"
          placeholder="who knows"
        /></span
      >
      <button type="submit" class="btn btn-main" disabled={!handTo}>Hand on</button>
    </form>
  </Modal>
{/if}
{#if closing && page}
  <ChangeDialog
    bind:open={closing}
    title="Close and sign {page.name}"
    verb="Close and sign"
    asked={page.name + draft + page.version}
    send={close}
    sentence
  >
    <label class="text-sm text-muted"
      >Put what is revoked into a new draft (optional)
      <input class="field w-full text-ink" bind:value={draft} placeholder="after-{page.name}" /></label
    >
  </ChangeDialog>
{/if}
{#if opening}<OpenReview bind:open={opening} />{/if}

<style>
  .item {
    grid-template-columns: 1.5rem minmax(0, 2fr) minmax(0, 3fr) minmax(0, 2fr) 9rem;
  }
  kbd {
    font-family: var(--font-mono, monospace);
    font-size: 0.7rem;
    opacity: 0.6;
  }
</style>
