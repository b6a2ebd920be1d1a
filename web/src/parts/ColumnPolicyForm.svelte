<script lang="ts">
  import type { Policy, Schemas } from '../lib/api'
  import { vocabulary } from '../lib/vocabulary.svelte'
  import { isDate, isDocument, isNumber, isText, unmodified } from '../lib/types'

  // Which columns a column policy treats, and how.
  let {
    what = $bindable(),
    table,
    columns,
  }: { what: Partial<Policy>; table: string; columns: Schemas['WireColumnView'][] } = $props()

  type Treatment = Schemas['WireTreatment']
  /* svelte-ignore state_referenced_locally */
  const start = what
  const pattern = start.columns?.length === 1 && start.columns[0]!.includes('*') ? start.columns[0]! : ''
  let by = $state<'names' | 'pattern'>(pattern ? 'pattern' : 'names')
  let matching = $state(pattern)
  let chosen = $state<string[]>(pattern ? [] : (start.columns ?? []))
  let t = $state<Treatment>({ ...(start.treatment ?? { kind: 'suppress' }) })
  let groups = $state(
    Object.entries(start.treatment?.mapping ?? {})
      .map(([value, group]) => `${value} = ${group}`)
      .join('\n'),
  )
  let when = $state(start.when ?? '')
  const onLabel = $derived(table.startsWith('label:'))
  const types = $derived([...new Set(columns.filter((c) => chosen.includes(c.name)).map((c) => c.type))])
  const any = $derived(onLabel || by === 'pattern')
  const numeric = $derived(any || types.some(isNumber))
  const dated = $derived(any || types.some(isDate))
  const texts = $derived(any || types.some(isText))

  const mapping = $derived(
    Object.fromEntries(
      groups
        .split('\n')
        .map((line) => line.split('=').map((part) => part.trim()))
        .filter((pair) => pair.length === 2 && pair[0]) as [string, string][],
    ),
  )
  // Only the arguments of the chosen kind are sent.
  const documents = $derived(!any && types.length > 0 && types.every(isDocument))
  const treatment = $derived.by((): Treatment => {
    const { kind } = t
    const paths = (documents && t.paths?.trim()) || undefined
    if (paths && kind === 'mask')
      return { kind, keep_first: t.keep_first, keep_last: t.keep_last, keep: t.keep || undefined, paths }
    if (paths && kind === 'constant') return { kind, value: t.value ?? '', paths }
    if (paths && (kind === 'pseudonym' || kind === 'suppress')) return { kind, paths }
    if (kind === 'mask') return { kind, keep_first: t.keep_first, keep_last: t.keep_last, keep: t.keep || undefined }
    if (kind === 'constant') return { kind, value: t.value ?? '' }
    if (kind === 'expression') return { kind, expression: t.expression ?? '' }
    if (kind === 'noise') return { kind, range: t.range, stable: t.stable }
    if (kind === 'round') return t.multiple ? { kind, multiple: t.multiple } : { kind, decimals: t.decimals ?? 0 }
    if (kind === 'generalize')
      return {
        kind,
        bucket: numeric ? t.bucket : undefined,
        unit: dated ? t.unit || (any ? undefined : 'month') : undefined,
        prefix: texts && !groups.trim() ? t.prefix : undefined,
        mapping: texts && groups.trim() ? mapping : undefined,
      }
    return { kind }
  })
  $effect(() => {
    what = {
      columns: onLabel ? [] : by === 'pattern' ? [matching] : $state.snapshot(chosen),
      treatment: $state.snapshot(treatment),
      when: when.trim() || undefined,
    }
  })

  const sample = 'ann.example@north.test'
  const masked = $derived.by(() => {
    const first = t.keep_first ?? 0
    const last = t.keep_last ?? 0
    return [...sample]
      .map((c, i, all) =>
        (first + last < all.length && (i < first || i >= all.length - last)) || t.keep?.includes(c) ? c : '*',
      )
      .join('')
  })
  function toggle(c: string) {
    chosen = chosen.includes(c) ? chosen.filter((x) => x !== c) : [...chosen, c]
  }
  const number = 'field w-24 text-ink'
  const inDocuments = ['mask', 'pseudonym', 'constant', 'suppress']
</script>

{#if !onLabel}
  <fieldset>
    <legend class="mb-1 flex items-center gap-2 text-sm text-muted"
      >Columns
      <select class="field w-auto py-0 text-sm text-ink" bind:value={by} aria-label="Columns by"
        ><option value="names">by name</option><option value="pattern">whose names match</option></select
      ></legend
    >
    {#if by === 'pattern'}
      <input class="field mono w-52" bind:value={matching} aria-label="Pattern" placeholder="*_number" />
    {:else}
      <div class="flex flex-wrap gap-x-4 gap-y-0.5">
        {#each columns as c (c.name)}
          <label class="mono flex items-center gap-1.5" title={c.type}
            ><input type="checkbox" checked={chosen.includes(c.name)} onchange={() => toggle(c.name)} /> {c.name}</label
          >
        {/each}
      </div>
    {/if}
  </fieldset>
{/if}
<div class="flex flex-wrap items-center gap-2">
  <span>{onLabel ? 'Every column with it is shown' : 'shown'}</span>
  <select class="field w-auto max-w-full" bind:value={t.kind} aria-label="Treatment">
    {#each vocabulary.all.treatments as { kind, says, types: fits } (kind)}
      <option
        value={kind}
        disabled={!any &&
          !types.every(
            (type) => fits.length === 0 || fits.includes(unmodified(type)) || (documents && inDocuments.includes(kind)),
          )}>{says}</option
      >
    {/each}
  </select>
</div>
{#if documents && inDocuments.includes(t.kind)}
  <label class="text-sm text-muted"
    >Only these values within the document, with commas (all of it when empty)
    <input class="field mono text-ink" bind:value={t.paths} placeholder="contact.phone, contact.email" /></label
  >
{/if}
<div class="flex flex-wrap items-center gap-x-3 gap-y-2 text-sm text-muted empty:hidden">
  {#if t.kind === 'mask'}
    <label>keep first <input class={number} type="number" min="0" bind:value={t.keep_first} /></label>
    <label>keep last <input class={number} type="number" min="0" bind:value={t.keep_last} /></label>
    <label>keep wherever <input class="{number} mono" bind:value={t.keep} placeholder="@.-" /></label>
    <span class="mono">{sample} → {masked}</span>
  {:else if t.kind === 'constant'}
    <label>the value <input class="field mono text-ink" bind:value={t.value} /></label>
  {:else if t.kind === 'expression'}
    <label class="w-full"
      >SQL over the row’s columns
      <input class="field mono text-ink" bind:value={t.expression} placeholder="left(name, 2) || '…'" /></label
    >
  {:else if t.kind === 'noise'}
    <label
      >by at most <input class={number} type="number" min="0" step="any" bind:value={t.range} /> either way{dated
        ? ', in days of dates'
        : ''}</label
    >
    <label class="flex items-center gap-1.5"
      ><input type="checkbox" bind:checked={t.stable} /> the same at each query</label
    >
  {:else if t.kind === 'round'}
    <label>decimals <input class={number} type="number" bind:value={t.decimals} placeholder="0" /></label>
    <label>or multiples of <input class={number} type="number" min="0" step="any" bind:value={t.multiple} /></label>
  {:else if t.kind === 'generalize'}
    {#if numeric}<label>bucket <input class={number} type="number" min="0" step="any" bind:value={t.bucket} /></label
      >{/if}
    {#if dated}<label
        >period <select class="field w-auto text-ink" bind:value={t.unit}
          >{#each ['month', 'quarter', 'year'] as unit (unit)}<option>{unit}</option>{/each}</select
        ></label
      >{/if}
    {#if texts}
      <label
        >characters kept <input
          class={number}
          type="number"
          min="1"
          bind:value={t.prefix}
          disabled={!!groups.trim()}
        /></label
      >
      <label class="w-full"
        >or the group of each value, one a line; * for all others
        <textarea class="field mono text-ink" rows="3" bind:value={groups} placeholder={'granite = igneous\n* = other'}
        ></textarea></label
      >
    {/if}
  {/if}
</div>
{#if t.kind !== 'withhold absent' && t.kind !== 'withhold refuse'}
  <label class="text-sm text-muted"
    >Only for rows where (SQL; all rows when empty)
    <input
      class="field mono text-ink"
      bind:value={when}
      spellcheck="false"
      placeholder="release_on > CURRENT_DATE OR release_on IS NULL"
    /></label
  >
{/if}
