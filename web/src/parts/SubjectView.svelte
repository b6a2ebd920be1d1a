<script lang="ts">
  import { dayOf } from '../lib/dates'
  import { fetched } from '../lib/load.svelte'
  import { Tabs } from 'bits-ui'
  import { api, get, type Problem, type SubjectPage } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
  import { subjects } from '../lib/subjects.svelte'
  import AccessTable from './AccessTable.svelte'
  import ChangeButton from './ChangeButton.svelte'
  import EditSubject from './EditSubject.svelte'
  import GrantDialog from './GrantDialog.svelte'
  import HistoryList from './HistoryList.svelte'
  import GrantTable from './GrantTable.svelte'
  import RemoveSubject from './RemoveSubject.svelte'
  import MemberDialog from './MemberDialog.svelte'
  import TabList from './TabList.svelte'
  import Trouble from './Trouble.svelte'
  import WhyBox from './WhyBox.svelte'

  let { ref }: { ref: string } = $props()
  let page = $state<SubjectPage | null>(null)
  let problem = $state<Problem | null>(null)
  let member = $state(false)
  let joining = $state<{ members: string[]; of: string[]; end: boolean; by: string }>({
    members: [],
    of: [],
    end: false,
    by: '',
  })
  let editing = $state(false)
  let granting = $state(false)
  let removing = $state(false)
  const builtIn = $derived(['public', 'role:administrator', 'role:auditor'].includes(page?.ref ?? ''))
  const admin = $derived(!!signed.session?.administrator)
  const container = $derived(page?.kind === 'role' || page?.kind === 'group')

  fetched(
    (signal) => {
      return get(api.GET('/api/v1/subjects/{ref}', { signal, params: { path: { ref } } }))
    },
    (p) => {
      page = p
      problem = null
    },
    (p) => {
      problem = p
      page = null
    },
  )

  function join(members: string[], of: string[], end = false, by = '') {
    joining = { members, of, end, by }
    member = true
  }

  const disable = (ref: string, disabled: boolean, dry: boolean) =>
    get(
      api.PATCH('/api/v1/subjects/{ref}', {
        params: { path: { ref } },
        body: { subject: ref, disabled, dry_run: dry || undefined },
      }),
    )

  const tabs = $derived<[string, string][]>([
    ['access', 'Effective access'],
    ['grants', `Grants ${page?.own.length} + ${page?.inherited.length}`],
    ['why', 'Why'],
    ...(signed.session?.reviewer ? [['history', 'History'] as [string, string]] : []),
    ...(page?.kind === 'role' ? [['graph', 'Hierarchy'] as [string, string]] : []),
  ])
</script>

{#if problem}
  <Trouble {problem} />
{:else if page}
  <div class="mb-3 flex flex-wrap items-start justify-between gap-3">
    <div>
      <p class="text-sm text-muted">{page.kind}{page.disabled ? ', disabled' : ''}</p>
      <h1 class="font-mono">{page.name || page.ref}</h1>
      <p class="text-muted">{page.title}</p>
    </div>
    <div class="flex flex-wrap gap-2">
      {#if admin && page.ref !== signed.session?.user && page.kind !== 'public'}
        <button type="button" class="btn" onclick={() => place.look({ as: page!.ref, role: '' })}
          >View as {page.name}</button
        >
        <button type="button" class="btn" onclick={() => place.look({ beside: page!.ref })}>Compare with</button>
      {/if}
      {#if admin}<button type="button" class="btn btn-main" onclick={() => (granting = true)}>Grant …</button>{/if}
      <a class="btn" href={place.href('/compare', { a: page.ref })}>Compare</a>
      {#if admin && page.kind !== 'public'}<button type="button" class="btn" onclick={() => (editing = true)}
          >Edit</button
        >{/if}
      {#if admin && (page.kind === 'user' || page.kind === 'service')}
        {@const { ref, disabled } = page}
        <ChangeButton
          title="{disabled ? 'Enable' : 'Disable'} {ref}"
          verb={disabled ? 'Enable' : 'Disable'}
          class="btn"
          none="Nobody gains or loses a right by it."
          send={(dry) => disable(ref, !disabled, dry)}
          undo={() => () => disable(ref, disabled, false)}
        />
      {/if}
      {#if admin && !builtIn}<button type="button" class="btn" onclick={() => (removing = true)}>Remove</button>{/if}
    </div>
  </div>
  <div class="panel mb-4 grid grid-cols-[7rem_1fr] gap-x-3 gap-y-1.5 p-3">
    {#each Object.entries(page.attributes) as [name, values] (name)}
      <span class="text-muted">{name}</span>
      <span
        >{#each values as v (v)}<span class="chip mr-1">{v}</span>{/each}</span
      >
    {/each}
    {#if page.lead}
      <span class="text-muted">reports to</span>
      <span><a class="chip hover:underline" href={place.href('/subjects/' + page.lead)}>{page.lead}</a></span>
    {/if}
    {#if page.reports.length}
      <span class="text-muted">leads</span>
      <span
        >{#each page.reports as r (r)}<a class="chip mr-1 hover:underline" href={place.href('/subjects/' + r)}>{r}</a
          >{/each}</span
      >
    {/if}
    <span class="text-muted">{container ? 'includes' : 'has'}</span>
    <span class="flex flex-wrap items-center gap-1">
      {#each page.memberships as m (m.of + ' ' + m.by)}
        <span class="chip">
          <a class="hover:underline" href={place.href((m.of.startsWith('role:') ? '/roles/' : '/subjects/') + m.of)}
            >{m.of}</a
          >{m.until ? ` until ${dayOf(m.until)}` : ''}{m.option ? ' · may give it on' : ''}{page.memberships.some(
            (x) => x.of === m.of && x.by !== m.by,
          )
            ? ` · by ${m.by || 'gneiss'}`
            : ''}
          {#if admin}<button
              type="button"
              aria-label="Remove {m.of}"
              onclick={() => join([page!.ref], [m.of], true, m.by)}>×</button
            >{/if}
        </span>
      {:else}<span class="text-muted">no groups and no roles</span>{/each}
      {#if admin && page.kind !== 'public'}<button type="button" class="btn py-0" onclick={() => join([page!.ref], [])}
          >Add role …</button
        >{/if}
    </span>
    {#if container}
      <span class="text-muted">{page.kind === 'role' ? 'held by' : 'members'}</span>
      <span class="flex flex-wrap items-center gap-1">
        {#each page.members as m (m)}
          <span class="chip"
            ><a class="hover:underline" href={place.href((m.startsWith('role:') ? '/roles/' : '/subjects/') + m)}>{m}</a
            >
            {#if admin}<button type="button" aria-label="Remove {m}" onclick={() => join([m], [page!.ref], true)}
                >×</button
              >{/if}</span
          >
        {:else}<span class="text-garnet">∅ nobody</span>{/each}
        {#if admin}<button type="button" class="btn py-0" onclick={() => join([], [page!.ref])}>Add member …</button
          >{/if}
        <span class="text-sm text-muted">users and services in all: {page.holders}</span>
      </span>
    {/if}
    {#if page.policies.length}
      <span class="text-muted">policies</span><span
        >{#each page.policies as p (p)}<span class="chip mr-1">{p}</span>{/each}</span
      >
    {/if}
  </div>
  <Tabs.Root value={place.tab(tabs, 'access')} onValueChange={(tab) => place.go(place.path, { tab })}>
    <TabList {tabs} />
    <Tabs.Content value="access"><AccessTable of={page.ref} /></Tabs.Content>
    <Tabs.Content value="grants">
      <h2 class="mb-1">Own</h2>
      <div class="mb-4"><GrantTable name="Own grants" grants={page.own} manage={admin} about="subject" /></div>
      <h2 class="mb-1">Inherited</h2>
      <GrantTable name="Inherited grants" grants={page.inherited} />
    </Tabs.Content>
    {#if page.kind === 'role'}
      <Tabs.Content value="graph">
        {#await import('./RoleGraph.svelte') then graph}<graph.default all={subjects.all} chosen={page.ref} />{/await}
      </Tabs.Content>
    {/if}
    <Tabs.Content value="history"><HistoryList of={page.ref} /></Tabs.Content>
    <Tabs.Content value="why"><WhyBox subject={page.ref} /></Tabs.Content>
  </Tabs.Root>
  {#if member}<MemberDialog
      bind:open={member}
      {...joining}
      kinds={joining.members.length
        ? page.kind === 'role'
          ? ['role']
          : ['role', 'group']
        : page.kind === 'role'
          ? []
          : ['user', 'service', 'group']}
    />{/if}
  {#if granting}<GrantDialog bind:open={granting} to={[page.ref]} />{/if}
  {#if editing}<EditSubject bind:open={editing} {page} />{/if}
  {#if removing}<RemoveSubject bind:open={removing} {page} />{/if}
{:else}
  <div class="h-8 w-1/2 animate-pulse rounded bg-raised"></div>
{/if}
