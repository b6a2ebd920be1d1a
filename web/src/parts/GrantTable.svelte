<script lang="ts">
  import { dayOf } from '../lib/dates'
  import { api, get, type Grant } from '../lib/api'
  import type { Column } from '../lib/grid'
  import { place } from '../lib/place.svelte'
  import Name from './Name.svelte'
  import FixButton from './FixButton.svelte'
  import Grid from './Grid.svelte'
  import RevokeDialog from './RevokeDialog.svelte'

  let {
    grants,
    manage = false,
    about = 'both',
    name = 'Grants',
  }: { grants: Grant[]; manage?: boolean; about?: 'object' | 'subject' | 'both'; name?: string } = $props()

  let marked = $state<Grant[]>([])
  let revoking = $state<Grant[]>([])
  let open = $state(false)

  const columns = $derived<Column<Grant>[]>([
    ...(manage ? [{ id: 'mark', head: 'Mark', controls: true, value: () => '' }] : []),
    { id: 'privilege', head: 'Privilege', class: 'mono', value: (g) => [g.privilege, ...(g.gives ?? [])].join(' ') },
    ...(about !== 'object' ? [{ id: 'on', head: 'On', class: 'mono min-w-44', value: (g: Grant) => g.object }] : []),
    ...(about !== 'subject' ? [{ id: 'to', head: 'To', class: 'mono min-w-44', value: (g: Grant) => g.subject }] : []),
    { id: 'by', head: 'By, since', class: 'text-muted', value: (g) => `${giver(g)} ${dayOf(g.at)}` },
    { id: 'note', head: 'Note', class: 'text-sm', value: (g) => notes(g) },
    ...(manage ? [{ id: 'revoke', head: 'Revoke', controls: true, value: () => '' }] : []),
  ])
  const giver = (g: Grant) => g.grantor || (g.owns ? 'as owner' : 'built in')
  const notes = (g: Grant) =>
    [
      g.owns && `owner of ${g.owns}`,
      g.option && 'grant option',
      g.until && `until ${dayOf(g.until)}`,
      g.ticket,
      g.reason,
      g.dormant && `dormant: ${g.dormant}`,
    ]
      .filter(Boolean)
      .join('; ')
  const mine = (g: Grant) => manage && !!g.grantor
  const key = (g: Grant) => [g.privilege, g.object, g.subject, g.grantor, g.owns].join(' ')
  const isMarked = (g: Grant) => marked.some((m) => key(m) === key(g))

  $effect(() => {
    void grants
    marked = []
  })

  function revoke(list: Grant[]) {
    revoking = list
    open = true
  }
</script>

{#snippet tools()}
  {#if marked.length}<button type="button" class="btn" onclick={() => revoke(marked)}>Revoke {marked.length}</button
    >{/if}
{/snippet}
{#snippet cell(g: Grant, c: Column<Grant>)}
  {#if c.id === 'mark'}
    {#if mine(g)}<input
        type="checkbox"
        aria-label="Mark {g.privilege} on {g.object} to {g.subject}"
        checked={isMarked(g)}
        onchange={() => (marked = isMarked(g) ? marked.filter((m) => key(m) !== key(g)) : [...marked, g])}
      />{/if}
  {:else if c.id === 'privilege'}
    <span title={g.gives ? 'gives ' + g.gives.join(', ') : undefined}
      >{g.privilege}{#if g.gives}<span class="block max-w-44 text-xs! text-muted">{g.gives.join(', ')}</span>{/if}</span
    >
  {:else if c.id === 'on'}
    <a
      class="hover:underline"
      href={place.href(g.object.startsWith('lane:') ? '/settings/lanes' : '/tables/' + g.object)}
      ><Name of={g.object} /></a
    >
  {:else if c.id === 'to'}
    <a class="hover:underline" href={place.href('/subjects/' + g.subject)}><Name of={g.subject} /></a>
  {:else if c.id === 'by'}
    <span class="mono" title={g.basis ? 'entitled by ' + g.basis : undefined}>{giver(g)}</span>
    {#if g.grantor || g.owns}<span class="block text-xs whitespace-nowrap">{dayOf(g.at)}</span>{/if}
  {:else if c.id === 'note'}
    {#if g.owns}<span class="chip">owner of {g.owns}</span>{:else if g.option}<span class="chip">grant option</span
      >{/if}
    {#if g.until}<span class="chip">until {dayOf(g.until)}</span>{/if}
    {#if g.ticket}<span class="chip">{g.ticket}</span>{/if}
    {#if g.reason}<span class="text-muted">{g.reason}</span>{/if}
    {#if g.dormant}
      <span class="rounded bg-feldspar-wash px-1">◇ dormant: {g.dormant}</span>
      {#if mine(g) && g.fix}<FixButton fix={g.fix} />{/if}
    {/if}
  {:else if mine(g)}<button type="button" class="btn py-0 text-sm" onclick={() => revoke([g])}>Revoke</button>{/if}
{/snippet}
<Grid {name} {columns} rows={grants} {key} {cell} {tools} empty="No grants." />
{#if open}<RevokeDialog bind:open grants={revoking} />{/if}
