<script lang="ts">
  import { api, get, says, type Changed, type Policy, type Problem, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import Effects from './Effects.svelte'
  import Modal from './Modal.svelte'
  import SubjectList from './SubjectList.svelte'
  import Trouble from './Trouble.svelte'

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
  let kind = $state<'suppress' | 'mask' | 'pseudonym'>(start?.treatment?.kind ?? 'suppress')
  let first = $state(start?.treatment?.keep_first ?? 0)
  let last = $state(start?.treatment?.keep_last ?? 0)
  let keep = $state(start?.treatment?.keep ?? '')
  let forRefs = $state<string[]>(start?.for ?? [])
  let except = $state<string[]>(start?.except ?? [])
  let draft = $state(start?.status === 'draft')
  let would = $state<Changed | null>(null)
  let problem = $state<Problem | null>(null)

  const treatment = $derived(
    kind === 'mask' ? { kind, keep_first: first, keep_last: last, keep: keep || undefined } : { kind },
  )
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
  })
  const sample = 'ann.example@north.test'
  const masked = $derived(
    [...sample]
      .map((c, i, all) =>
        (first + last < all.length && (i < first || i >= all.length - last)) || keep.includes(c) ? c : '*',
      )
      .join(''),
  )

  $effect(() => {
    const asked = $state.snapshot(body)
    would = null
    if (!asked.name || !asked.columns.length) return
    const later = setTimeout(() => {
      get(api.POST('/api/v1/policies', { body: { ...asked, replace: !!start, dry_run: true } }))
        .then((c) => {
          would = c
          problem = null
        })
        .catch((error) => (problem = says(error)))
    }, 250)
    return () => clearTimeout(later)
  })

  async function submit(event: SubmitEvent) {
    event.preventDefault()
    try {
      const sent = $state.snapshot(body)
      const params = start ? { headers: { 'If-Match': `"${revision}"` } } : {}
      const done = await get(api.POST('/api/v1/policies', { body: { ...sent, replace: !!start }, ...params }))
      changes.made(done, () =>
        start
          ? get(api.POST('/api/v1/policies', { body: { ...start, replace: true } }))
          : get(api.DELETE('/api/v1/policies/{name}', { params: { path: { name: sent.name } } })),
      )
      open = false
    } catch (error) {
      problem = says(error)
    }
  }

  function toggle(c: string) {
    chosen = chosen.includes(c) ? chosen.filter((x) => x !== c) : [...chosen, c]
  }
</script>

<Modal bind:open title={start ? `Column policy ${start.name}` : `Column policy on ${table}`}>
  <form class="flex flex-col gap-3" onsubmit={submit}>
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
          <label class="mono flex items-center gap-1.5"
            ><input type="checkbox" checked={chosen.includes(c.name)} onchange={() => toggle(c.name)} /> {c.name}</label
          >
        {/each}
      </div>
    </fieldset>
    <div class="flex flex-wrap items-center gap-2">
      <span>appear</span>
      <select class="field w-auto" bind:value={kind} aria-label="Treatment">
        <option value="suppress">suppressed: NULL</option>
        <option value="mask">masked: part kept, the rest filled</option>
        <option value="pseudonym">as a pseudonym: equal values stay equal</option>
      </select>
    </div>
    {#if kind === 'mask'}
      <div class="flex flex-wrap items-center gap-2">
        <label class="text-sm text-muted"
          >keep first <input class="field w-16 text-ink" type="number" min="0" bind:value={first} /></label
        >
        <label class="text-sm text-muted"
          >keep last <input class="field w-16 text-ink" type="number" min="0" bind:value={last} /></label
        >
        <label class="text-sm text-muted"
          >keep wherever <input class="field mono w-24 text-ink" bind:value={keep} placeholder="@.-" /></label
        >
        <span class="mono text-muted">{sample} → {masked}</span>
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
    {#if problem}<Trouble {problem} />{/if}
    {#if would}
      <section class="rounded border border-line bg-raised p-2" aria-label="What this would do">
        {#each would.says as line (line)}<p class="mb-1 first-letter:uppercase">{line}.</p>{/each}
        <Effects changed={would} />
      </section>
    {/if}
    <div class="flex justify-end gap-2">
      <button type="button" class="btn" onclick={() => (open = false)}>Cancel</button>
      <button class="btn btn-main" disabled={!chosen.length || !name}
        >{draft ? 'Save draft' : start ? 'Save' : 'Put in force'}</button
      >
    </div>
  </form>
</Modal>
