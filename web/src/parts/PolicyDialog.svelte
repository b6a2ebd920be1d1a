<script lang="ts">
  import { api, get, says, type Changed, type ObjectPage, type Policy, type Problem, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import ColumnPolicyForm from './ColumnPolicyForm.svelte'
  import LiveCounts from './LiveCounts.svelte'
  import Modal from './Modal.svelte'
  import PlacePicker from './PlacePicker.svelte'
  import RowPolicyForm from './RowPolicyForm.svelte'
  import SubjectList from './SubjectList.svelte'
  import Trouble from './Trouble.svelte'

  // A row or column policy, new or there already. What it would do is counted while it is written.
  let {
    open = $bindable(false),
    kind,
    on = '',
    policy,
  }: { open: boolean; kind: 'rows' | 'columns'; on?: string; policy?: Policy } = $props()

  /* svelte-ignore state_referenced_locally */
  const start = policy && ($state.snapshot(policy) as Policy)
  /* svelte-ignore state_referenced_locally */
  let table = $state(start?.table ?? on)
  let name = $state(start?.name ?? '')
  let what = $state<Partial<Policy>>({ ...start })
  let forRefs = $state<string[]>(start?.for ?? [])
  let except = $state<string[]>(start?.except ?? [])
  let purposes = $state((start?.purposes ?? []).join(', '))
  let comment = $state(start?.comment ?? '')
  let draft = $state(start?.status === 'draft')
  let page = $state<ObjectPage | null>(null)
  let trial = $state<Schemas['WireTrialResult'] | null>(null)
  let problem = $state<Problem | null>(null)
  let busy = $state(false)

  const isTable = $derived(!!table && !/[:*]/.test(table))
  $effect(() => {
    const path = table
    page = null
    if (!isTable) return
    get(api.GET('/api/v1/object', { params: { query: { path } } }))
      .then((o) => {
        if (path === table && o.kind === 'table') page = o
      })
      .catch(() => {})
  })
  const columns = $derived(page?.columns ?? [])

  const body = $derived<Policy>({
    ...what,
    name: name || 'trial',
    kind,
    table,
    for: forRefs,
    except,
    purposes: purposes
      .split(',')
      .map((p) => p.trim())
      .filter(Boolean),
    comment: comment || undefined,
    status: draft ? 'draft' : 'live',
    sentence: '',
    covers: 0,
  })
  const complete = $derived(
    !!table &&
      (kind === 'rows'
        ? !!(body.rule?.trim() || body.phrases?.length || body.follow)
        : !!(body.treatment && (table.startsWith('label:') || body.columns?.some(Boolean)))),
  )

  $effect(() => {
    const asked = $state.snapshot(body) as Policy
    if (!complete) {
      trial = null
      problem = null
      return
    }
    const leaving = new AbortController()
    const later = setTimeout(() => {
      get(api.POST('/api/v1/policies/trial', { body: { ...asked, standpoints: [] }, signal: leaving.signal }))
        .then((t) => {
          if (leaving.signal.aborted) return
          trial = t
          problem = null
        })
        .catch((error) => {
          if (leaving.signal.aborted) return
          trial = null
          problem = says(error)
        })
    }, 250)
    return () => {
      clearTimeout(later)
      leaving.abort()
    }
  })

  // What a policy is apart from what the service says of it.
  const written = ({ sentence: _, covers: __, broken: ___, ...of }: Policy) => JSON.stringify(of)

  /** The revision in which the policy is still as the form found it: what somebody has changed is not overwritten. */
  async function asFound(found: Policy): Promise<{ headers: Record<string, string> }> {
    const call = api.GET('/api/v1/policies', {})
    const now = (await get(call)).items.find((p) => p.name === found.name)
    if (!now || written(now) !== written(found))
      throw new Error(`Somebody has changed ${found.name} since you opened this. Close it, and open it again.`)
    return { headers: { 'If-Match': (await call).response.headers.get('ETag') ?? '' } }
  }

  /** Saves the policy. What others change elsewhere meanwhile is no reason to refuse: it is looked at again. */
  async function save(sent: Policy, tries = 3): Promise<Changed> {
    const seen = start ? await asFound(start) : {}
    try {
      return await get(api.POST('/api/v1/policies', { body: { ...sent, replace: !!start }, ...seen }))
    } catch (error) {
      if (says(error).code === 'stale' && tries > 1) return save(sent, tries - 1)
      throw error
    }
  }

  async function submit(event: SubmitEvent) {
    event.preventDefault()
    busy = true
    try {
      const sent = $state.snapshot(body) as Policy
      const done = await save(sent)
      changes.made(done, () =>
        start
          ? get(api.POST('/api/v1/policies', { body: { ...start, replace: true } }))
          : get(api.DELETE('/api/v1/policies/{name}', { params: { path: { name: sent.name } } })),
      )
      open = false
    } catch (error) {
      problem = says(error)
    }
    busy = false
  }
  const noun = $derived(kind === 'rows' ? 'Row policy' : 'Column policy')
</script>

<Modal bind:open wide title={start ? `${noun} ${start.name}` : on ? `${noun} on ${on}` : noun}>
  <form class="grid grid-cols-[minmax(0,1fr)_19rem] gap-5 max-[800px]:grid-cols-1" onsubmit={submit}>
    <div class="flex flex-col gap-3">
      {#if !on && !start}<PlacePicker bind:value={table} {kind} />{/if}
      {#if !start}<label class="text-sm text-muted"
          >Name <input
            class="field mono text-ink"
            bind:value={name}
            name="name"
            required
            pattern="[a-z0-9][a-z0-9_.\-]*"
            placeholder={kind === 'rows' ? 'boreholes-of-districts' : 'holder-contacts'}
          /></label
        >{/if}
      {#key table}
        {#if kind === 'rows'}<RowPolicyForm bind:what {table} {columns} {trial} />
        {:else}<ColumnPolicyForm bind:what {table} {columns} />{/if}
      {/key}
      <div class="grid grid-cols-2 gap-3">
        <div>
          <p class="mb-1 text-sm text-muted">For</p>
          <SubjectList bind:refs={forRefs} label="For" empty="everyone" />
        </div>
        <div>
          <p class="mb-1 text-sm text-muted">Except</p>
          <SubjectList bind:refs={except} label="Except" empty="nobody" />
        </div>
        <label class="text-sm text-muted"
          >Only for these purposes
          <input class="field text-ink" bind:value={purposes} placeholder="any; or royalty audit, research" /></label
        >
        <label class="text-sm text-muted">Description <input class="field text-ink" bind:value={comment} /></label>
      </div>
      <label class="flex items-center gap-2"
        ><input type="checkbox" bind:checked={draft} /> Keep it as a draft, without effect</label
      >
      {#if problem}<Trouble {problem} />{/if}
      <div class="flex justify-end gap-2">
        <button type="button" class="btn" onclick={() => (open = false)}>Cancel</button>
        <button type="submit" class="btn btn-main" disabled={!complete || busy || !name}
          >{draft ? 'Save draft' : start ? 'Save' : 'Publish'}</button
        >
      </div>
    </div>
    <LiveCounts {trial} />
  </form>
</Modal>
