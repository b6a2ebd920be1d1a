<script lang="ts">
  import { dayOf } from '../lib/dates'
  import type { Column } from '../lib/grid'
  import { api, get, type Changed, type Schemas } from '../lib/api'
  import { loaded } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import { scrollable } from '../lib/scrollable'
  import { signed } from '../lib/session.svelte'
  import ChangeDialog from '../parts/ChangeDialog.svelte'
  import FixButton from '../parts/FixButton.svelte'
  import Grid from '../parts/Grid.svelte'
  import SubjectPicker from '../parts/SubjectPicker.svelte'
  import Trouble from '../parts/Trouble.svelte'

  // Holding beside using: of one person or role, or what nobody used.
  type Item = Schemas['WireUseItem']
  // Who does not review and read the record asks about themself.
  const asks = $derived(!!signed.session?.reviewer && !!signed.session.auditor)
  const of = $derived(asks ? (place.query.get('of') ?? '') : (signed.session?.user ?? ''))
  const days = $derived(Number(place.query.get('days')) || 90)
  const unused = $derived(!of || place.query.get('unused') === '1')
  let picked = $state('')
  $effect(() => {
    picked = of
  })
  $effect(() => {
    if (asks && picked !== of) place.go('/use', { of: picked })
  })
  const report = loaded((signal) =>
    get(
      api.GET('/api/v1/use', {
        signal,
        params: { query: { of: of || undefined, days, unused: unused || undefined } },
      }),
    ),
  )
  let taking = $state(false)
  let draft = $state('')
  let tests = $state(true)
  const send = async (dry: boolean): Promise<Changed> => {
    if (dry)
      return {
        revision: 0,
        done: false,
        revised: false,
        says: [`opens a draft with what takes back ${takes} rights that nobody used`],
        notes: [],
        effects: [],
      }
    return get(api.POST('/api/v1/use/take-back', { body: { of: of || undefined, days, draft, tests } }))
  }
  const takes = $derived((report.value?.items ?? []).filter((i) => !i.queries && i.fixes.length && !i.new).length)
  const columns: Column<Item>[] = [
    { id: 'kind', head: 'Kind', class: 'text-muted', value: (i) => i.kind },
    { id: 'what', head: 'What', class: 'mono', value: (i) => i.says },
    { id: 'queries', head: 'Queries', number: true, value: (i) => i.queries },
    { id: 'people', head: 'People', number: true, value: (i) => i.people },
    { id: 'last', head: 'Last used', class: 'whitespace-nowrap', value: (i) => i.last ?? '' },
    { id: 'given', head: 'Given', class: 'whitespace-nowrap text-muted', value: (i) => dayOf(i.since) },
    { id: 'note', head: 'Note', value: (i) => i.note || (i.of && i.of > 1 ? `${i.reads ?? 0} of ${i.of} tables` : '') },
    ...(signed.session?.administrator
      ? [{ id: 'fix', head: 'Fix', controls: true, value: () => '' } as Column<Item>]
      : []),
  ]
</script>

{#snippet cell(i: Item, c: Column<Item>)}
  {#if c.id === 'last'}{#if i.last}<span class="text-epidote">● {i.last}</span>{:else if i.new}<span class="text-muted"
        >○ new</span
      >{:else if i.note}<span class="text-muted">not counted</span>{:else}<span class="text-garnet">⊘ never</span>{/if}
  {:else if c.id === 'fix'}<span class="flex flex-wrap gap-1"
      >{#each i.fixes.slice(0, 2) as fix, i (i)}<FixButton {fix} />{/each}</span
    >
  {:else}{c.value(i)}{/if}
{/snippet}

<div class="h-full overflow-y-auto p-5" use:scrollable={'Use'}>
  <div class="mb-3 flex flex-wrap items-center gap-3">
    <h1>Use</h1>
    {#if asks}
      <span class="w-64"
        ><SubjectPicker bind:value={picked} kinds={[]} label="Of whom" placeholder="everybody: what is unused" /></span
      >
      {#if of}<button type="button" class="btn" onclick={() => place.go('/use', { of: '', unused: '' })}
          >Everybody</button
        >
        <button
          type="button"
          class="btn"
          aria-pressed={unused}
          onclick={() => place.go('/use', { of, unused: unused ? '' : '1' })}>Only what is unused</button
        >{/if}
    {/if}
    <select
      class="field w-auto"
      aria-label="Days"
      value={String(days)}
      onchange={(e) => place.go('/use', { of, days: e.currentTarget.value })}
    >
      {#each ['30', '90', '150', '365'] as d (d)}<option value={d}>{d} days</option>{/each}
    </select>
    {#if signed.session?.administrator && takes && !report.value?.short}<button
        type="button"
        class="btn btn-main ml-auto"
        onclick={() => (taking = true)}>Take back what nobody used …</button
      >{/if}
  </div>
  <p class="mb-3 max-w-prose text-muted">
    Which grants and memberships were needed by {!of
      ? 'everybody’s queries'
      : of === signed.session?.user
        ? 'your queries'
        : of.startsWith('role:') || of.startsWith('group:')
          ? 'its members’ queries'
          : `the queries of ${of}`}{report.value ? `, since ${dayOf(report.value.since)}` : ''}. What serves to
    administer (MANAGE, CREATE, AUDIT) is not counted.
    {#if report.value?.short}<b class="text-feldspar">Use has not been counted for {days} days yet.</b>{/if}
  </p>
  {#if report.problem}<Trouble problem={report.problem} />{/if}
  {#if report.value}
    <div class="flex flex-col gap-5">
      <div class="min-w-0">
        <Grid
          name="Held"
          {columns}
          rows={report.value.items}
          key={(i) => [i.kind, i.says, i.since].join()}
          {cell}
          empty="There is nothing that nobody used."
        />
      </div>
      {#if report.value.tables.length}
        <section aria-label="Used">
          <h2 class="mb-2">What was used</h2>
          <ul class="panel divide-y divide-line">
            {#each report.value.tables as t (t.table)}
              <li class="p-2.5">
                <a class="mono font-semibold hover:underline" href={place.href('/tables/' + t.table)}>{t.table}</a>
                <p class="text-sm text-muted">{t.queries} queries, last on {t.last}: {t.columns.join(', ')}</p>
              </li>
            {/each}
          </ul>
        </section>
      {/if}
    </div>
  {:else if !report.problem}<div class="h-40 animate-pulse rounded bg-raised"></div>{/if}
</div>

{#if taking}
  <ChangeDialog
    bind:open={taking}
    title="Take back what nobody used"
    verb="Open the draft"
    asked={draft + tests}
    ready={!!draft}
    {send}
    sentence
    none="Nothing changes until the draft is published."
    ondone={() => place.go('/drafts/' + encodeURIComponent(draft))}
  >
    <label class="text-sm text-muted"
      >Name of the draft <input
        class="field w-full text-ink"
        bind:value={draft}
        placeholder="less-in-autumn"
        required
      /></label
    >
    <label
      ><input type="checkbox" bind:checked={tests} /> With an access test of each table that was used, so that nothing breaks
      unseen</label
    >
  </ChangeDialog>
{/if}
