<script lang="ts">
  import { api, get, type Policy, type Schemas } from '../lib/api'
  import ChangeDialog from './ChangeDialog.svelte'
  import SubjectList from './SubjectList.svelte'

  let {
    open = $bindable(false),
    table,
    policy,
    columns,
    revision,
  }: {
    open: boolean
    table: string
    policy?: Policy
    columns: Schemas['WireColumnView'][]
    revision: number
  } = $props()

  /* svelte-ignore state_referenced_locally */
  const start = policy
  let name = $state(start?.name ?? '')
  let chosen = $state<string[]>(start?.columns ?? [])
  type Treatment = Schemas['WireTreatment']
  const kinds: Record<Treatment['kind'], string> = {
    suppress: 'suppressed: NULL',
    mask: 'masked: part kept, the rest filled',
    pseudonym: 'as a pseudonym: equal values stay equal',
    generalize: 'generalized: by bucket, period or beginning',
    round: 'rounded',
    noise: 'blurred by noise',
    expression: 'as an expression',
    constant: 'as one value',
    'withhold blank': 'withheld and blank: there, always NULL, reports keep working',
    'withhold absent': 'withheld as if absent: the column does not exist',
    'withhold refuse': 'withheld and refused: naming it is an error',
  }
  // Which types each treatment fits; those that are not named fit all.
  const fits: Partial<Record<Treatment['kind'], string[]>> = {
    mask: ['text'],
    pseudonym: ['text', 'bigint'],
    round: ['double precision', 'bigint'],
    generalize: ['text', 'double precision', 'bigint', 'date', 'timestamp'],
  }
  let t = $state<Treatment>({ ...(start?.treatment ?? { kind: 'suppress' }) })
  let forRefs = $state<string[]>(start?.for ?? [])
  let except = $state<string[]>(start?.except ?? [])
  let draft = $state(start?.status === 'draft')
  const types = $derived([...new Set(columns.filter((c) => chosen.includes(c.name)).map((c) => c.type))])
  const numeric = $derived(types.some((type) => type === 'bigint' || type === 'double precision'))
  const dated = $derived(types.some((type) => type === 'date' || type === 'timestamp'))

  // Only the arguments of the chosen kind are sent.
  const treatment = $derived.by((): Treatment => {
    const { kind } = t
    if (kind === 'mask') return { kind, keep_first: t.keep_first, keep_last: t.keep_last, keep: t.keep || undefined }
    if (kind === 'constant') return { kind, value: t.value ?? '' }
    if (kind === 'round') return t.multiple ? { kind, multiple: t.multiple } : { kind, decimals: t.decimals ?? 0 }
    if (kind === 'generalize')
      return {
        kind,
        bucket: numeric ? t.bucket : undefined,
        unit: dated ? t.unit || 'month' : undefined,
        prefix: types.includes('text') ? t.prefix : undefined,
      }
    return { kind }
  })
  const body = $derived({
    name,
    kind: 'columns' as const,
    table,
    columns: chosen,
    treatment,
    for: forRefs,
    except,
    purposes: start?.purposes ?? [],
    comment: start?.comment,
    status: (draft ? 'draft' : 'live') as Policy['status'],
    sentence: '',
    covers: 0,
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

  function send(dry: boolean) {
    const params = start && !dry ? { headers: { 'If-Match': `"${revision}"` } } : {}
    return get(
      api.POST('/api/v1/policies', {
        body: { ...$state.snapshot(body), replace: !!start, dry_run: dry || undefined },
        ...params,
      }),
    )
  }
  const undo = () =>
    start
      ? get(api.POST('/api/v1/policies', { body: { ...start, replace: true } }))
      : get(api.DELETE('/api/v1/policies/{name}', { params: { path: { name } } }))

  function toggle(c: string) {
    chosen = chosen.includes(c) ? chosen.filter((x) => x !== c) : [...chosen, c]
  }
</script>

<ChangeDialog
  bind:open
  title={start ? `Column policy ${start.name}` : `Column policy on ${table}`}
  verb={draft ? 'Save draft' : start ? 'Save' : 'Put in force'}
  asked={JSON.stringify(body)}
  ready={chosen.length > 0 && !!name}
  {send}
  {undo}
  sentence
>
  {#if !start}<label class="text-sm text-muted"
      >Name <input
        class="field mono text-ink"
        bind:value={name}
        required
        pattern="[a-z0-9][a-z0-9_.\-]*"
        placeholder="holder-contacts"
      /></label
    >{/if}
  <fieldset>
    <legend class="mb-1 text-sm text-muted">Columns</legend>
    <div class="flex flex-wrap gap-x-4 gap-y-0.5">
      {#each columns as c (c.name)}
        <label class="mono flex items-center gap-1.5" title={c.type}
          ><input type="checkbox" checked={chosen.includes(c.name)} onchange={() => toggle(c.name)} /> {c.name}</label
        >
      {/each}
    </div>
  </fieldset>
  <div class="flex flex-wrap items-center gap-2">
    <span>appear</span>
    <select class="field w-auto" bind:value={t.kind} aria-label="Treatment">
      {#each Object.entries(kinds) as [kind, says] (kind)}
        <option value={kind} disabled={!types.every((type) => fits[kind as Treatment['kind']]?.includes(type) ?? true)}
          >{says}</option
        >
      {/each}
    </select>
  </div>
  {#if t.kind === 'mask'}
    <div class="flex flex-wrap items-center gap-2">
      <label class="text-sm text-muted"
        >keep first <input class="field w-16 text-ink" type="number" min="0" bind:value={t.keep_first} /></label
      >
      <label class="text-sm text-muted"
        >keep last <input class="field w-16 text-ink" type="number" min="0" bind:value={t.keep_last} /></label
      >
      <label class="text-sm text-muted"
        >keep wherever <input class="field mono w-24 text-ink" bind:value={t.keep} placeholder="@.-" /></label
      >
      <span class="mono text-muted">{sample} → {masked}</span>
    </div>
  {:else if t.kind === 'constant'}
    <label class="text-sm text-muted">the value <input class="field mono text-ink" bind:value={t.value} /></label>
  {:else if t.kind === 'round'}
    <div class="flex flex-wrap items-center gap-2">
      <label class="text-sm text-muted"
        >decimals <input class="field w-20 text-ink" type="number" bind:value={t.decimals} placeholder="0" /></label
      >
      <label class="text-sm text-muted"
        >or multiples of <input
          class="field w-24 text-ink"
          type="number"
          min="0"
          step="any"
          bind:value={t.multiple}
        /></label
      >
    </div>
  {:else if t.kind === 'generalize'}
    <div class="flex flex-wrap items-center gap-2">
      {#if numeric}<label class="text-sm text-muted"
          >bucket <input class="field w-24 text-ink" type="number" min="0" step="any" bind:value={t.bucket} /></label
        >{/if}
      {#if dated}<label class="text-sm text-muted"
          >period <select class="field w-auto text-ink" bind:value={t.unit}
            >{#each ['month', 'quarter', 'year'] as unit (unit)}<option>{unit}</option>{/each}</select
          ></label
        >{/if}
      {#if types.includes('text')}<label class="text-sm text-muted"
          >characters kept <input class="field w-20 text-ink" type="number" min="1" bind:value={t.prefix} /></label
        >{/if}
    </div>
  {/if}
  <div class="grid grid-cols-2 gap-3">
    <div>
      <p class="mb-1 text-sm text-muted">For</p>
      <SubjectList bind:refs={forRefs} label="For" empty="everyone" />
    </div>
    <div>
      <p class="mb-1 text-sm text-muted">Except</p>
      <SubjectList bind:refs={except} label="Except" empty="nobody" />
    </div>
  </div>
  <label class="flex items-center gap-2"
    ><input type="checkbox" bind:checked={draft} /> Keep it as a draft, without effect</label
  >
</ChangeDialog>
