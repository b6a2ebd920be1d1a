<script lang="ts">
  import { api, get, says, type Policy, type Problem, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { subjects } from '../lib/subjects.svelte'
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
  let rule = $state(start?.rule ?? '')
  let mode = $state<'allow' | 'limit'>(start?.mode || 'allow')
  let forRefs = $state<string[]>(start?.for ?? [])
  let except = $state<string[]>(start?.except ?? [])
  let draft = $state(start?.status === 'draft')
  let trial = $state<Schemas['WireTrialResult'] | null>(null)
  let problem = $state<Problem | null>(null)

  // The common rules, without SQL: a column, and what of the reader's it is compared with.
  /* svelte-ignore state_referenced_locally */
  let column = $state(columns.find((c) => c.type === 'text')?.name ?? columns[0]?.name ?? '')
  let compared = $state('attribute')
  let attribute = $state('districts')
  function write() {
    if (compared === 'attribute') rule = `${column} IN (attribute('${attribute.replaceAll("'", "''")}'))`
    else if (compared === 'group') rule = `in_group(${column})`
    else if (compared === 'user') rule = `${column} = CURRENT_USER`
    else if (compared === 'released') rule = `${column} <= CURRENT_DATE`
    else rule = 'true'
  }
  const attributes = $derived([...new Set(subjects.all.flatMap((s) => Object.keys(s.attributes)))])

  const body = $derived<Policy>({
    name: name || 'trial',
    kind: 'rows',
    table,
    mode,
    rule,
    for: forRefs,
    except,
    purposes: start?.purposes ?? [],
    comment: start?.comment,
    status: draft ? 'draft' : 'live',
    sentence: '',
    covers: 0,
  })
  const people = $derived(
    subjects.all.filter((s) => (s.kind === 'user' || s.kind === 'service') && !s.disabled).slice(0, 14),
  )

  // Live counts while typing.
  $effect(() => {
    const asked = $state.snapshot(body)
    const standpoints = people.map((s) => ({ as: s.ref }))
    if (!asked.rule?.trim()) {
      trial = null
      problem = null
      return
    }
    const later = setTimeout(() => {
      get(api.POST('/api/v1/policies/trial', { body: { ...asked, standpoints } }))
        .then((t) => {
          trial = t
          problem = null
        })
        .catch((error) => {
          trial = null
          problem = says(error)
        })
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
</script>

<Modal bind:open wide title={start ? `Row policy ${start.name}` : `Row policy on ${table}`}>
  <form class="grid grid-cols-[minmax(0,1fr)_17rem] gap-5" onsubmit={submit}>
    <div class="flex flex-col gap-3">
      {#if !start}<label class="text-sm text-muted"
          >Name <input
            class="field mono text-ink"
            bind:value={name}
            required
            pattern="[a-z0-9][a-z0-9_.\-]*"
            placeholder="boreholes-of-districts"
          /></label
        >{/if}
      <div class="flex flex-wrap items-center gap-2">
        <span>Rows</span>
        <select class="field w-auto" bind:value={mode} aria-label="Mode"
          ><option value="allow">are shown</option><option value="limit">are limited to those</option></select
        >
        <span>where</span>
        <select class="field mono w-auto" bind:value={column} onchange={write} aria-label="Column"
          >{#each columns as c (c.name)}<option>{c.name}</option>{/each}</select
        >
        <select class="field w-auto" bind:value={compared} onchange={write} aria-label="Compared with">
          <option value="attribute">is a value of the reader’s attribute</option>
          <option value="group">names a group of the reader’s</option>
          <option value="user">is the reader</option>
          <option value="released">is today or before</option>
          <option value="all">anything: all rows</option>
        </select>
        {#if compared === 'attribute'}<input
            class="field mono w-32"
            list="attributes"
            bind:value={attribute}
            oninput={write}
            aria-label="Attribute"
          />
          <datalist id="attributes"
            >{#each attributes as a (a)}<option value={a}></option>{/each}</datalist
          >{/if}
        <button type="button" class="btn" onclick={write}>Write it</button>
      </div>
      <label class="text-sm text-muted"
        >Condition, in SQL
        <textarea
          class="field mono text-ink"
          rows="3"
          bind:value={rule}
          required
          spellcheck="false"
          placeholder="district IN (attribute('districts'))"></textarea>
      </label>
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
      {#if trial}<p class="rounded bg-raised p-2">{trial.sentence}.</p>{/if}
      <div class="flex justify-end gap-2">
        <button type="button" class="btn" onclick={() => (open = false)}>Cancel</button>
        <button class="btn btn-main" disabled={!rule.trim()}
          >{draft ? 'Save draft' : start ? 'Save' : 'Put in force'}</button
        >
      </div>
    </div>
    <section aria-label="Live counts" aria-live="polite">
      <p class="mb-1 text-sm text-muted">
        {trial ? `Rows seen, of ${(trial.counts[0]?.total ?? 0).toLocaleString('en')}` : 'Rows seen: write a condition'}
      </p>
      <table class="dense text-sm">
        <thead><tr><th>Who</th><th class="text-right!">Now</th><th class="text-right!">Then</th></tr></thead>
        <tbody>
          {#each trial?.counts ?? [] as c (c.standing)}
            <tr title={c.problem}>
              <td class="mono">{c.standing}</td>
              {#if c.problem}<td colspan="2" class="text-right text-muted">⊘ no access</td>
              {:else}
                <td class="text-right">{c.now}</td>
                <td
                  class="text-right whitespace-nowrap {c.then > c.now
                    ? 'font-semibold text-epidote'
                    : c.then < c.now
                      ? 'font-semibold text-garnet'
                      : ''}">{c.then > c.now ? '▲ ' : c.then < c.now ? '▼ ' : ''}{c.then}</td
                >
              {/if}
            </tr>
          {/each}
        </tbody>
      </table>
    </section>
  </form>
</Modal>
