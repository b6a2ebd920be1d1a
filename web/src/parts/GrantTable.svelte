<script lang="ts">
  import { api, get, type Grant } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import Name from './Name.svelte'
  import FixButton from './FixButton.svelte'
  import RevokeDialog from './RevokeDialog.svelte'

  let {
    grants,
    manage = false,
    about = 'both',
  }: { grants: Grant[]; manage?: boolean; about?: 'object' | 'subject' | 'both' } = $props()

  const page = 100
  let filter = $state('')
  let shown = $state(page)
  let marked = $state<Grant[]>([])
  let revoking = $state<Grant[]>([])
  let open = $state(false)

  const found = $derived(
    grants.filter((g) =>
      [g.privilege, g.object, g.subject, g.grantor, g.ticket, g.dormant && 'dormant']
        .join(' ')
        .toLowerCase()
        .includes(filter.toLowerCase()),
    ),
  )
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

{#if grants.length > 8 || marked.length}
  <div class="flex items-center gap-3 border-b border-line p-2">
    <input class="field max-w-56" placeholder="filter" aria-label="Filter grants" bind:value={filter} />
    <span class="text-sm text-muted">{found.length} of {grants.length}</span>
    {#if marked.length}<button class="btn ml-auto" onclick={() => revoke(marked)}>Revoke {marked.length}</button>{/if}
  </div>
{/if}
<table class="dense">
  <thead>
    <tr>
      {#if manage}<th class="w-0"><span class="sr-only">Mark</span></th>{/if}
      <th>Privilege</th>
      {#if about !== 'object'}<th>On</th>{/if}
      {#if about !== 'subject'}<th>To</th>{/if}
      <th>By, since</th><th>Note</th>{#if manage}<th class="w-0"><span class="sr-only">Revoke</span></th>{/if}
    </tr>
  </thead>
  <tbody>
    {#each found.slice(0, shown) as g (key(g))}
      <tr>
        {#if manage}<td
            >{#if mine(g)}<input
                type="checkbox"
                aria-label="Mark {g.privilege} on {g.object} to {g.subject}"
                checked={isMarked(g)}
                onchange={() => (marked = isMarked(g) ? marked.filter((m) => key(m) !== key(g)) : [...marked, g])}
              />{/if}</td
          >{/if}
        <td class="mono" title={g.gives ? 'gives ' + g.gives.join(', ') : undefined}
          >{g.privilege}{#if g.gives}<span class="block max-w-44 text-xs! text-muted">{g.gives.join(', ')}</span
            >{/if}</td
        >
        {#if about !== 'object'}<td class="mono"
            ><a
              class="hover:underline"
              href={place.href(g.object.startsWith('lane:') ? '/settings/lanes' : '/tables/' + g.object)}
              ><Name of={g.object} /></a
            ></td
          >{/if}
        {#if about !== 'subject'}<td class="mono"
            ><a class="hover:underline" href={place.href('/subjects/' + g.subject)}><Name of={g.subject} /></a></td
          >{/if}
        <td class="text-muted" title={g.basis ? 'entitled by ' + g.basis : undefined}>
          <span class="mono">{g.grantor || (g.owns ? 'as owner' : 'built in')}</span>
          {#if g.grantor || g.owns}<span class="block text-xs whitespace-nowrap">{g.at.slice(0, 10)}</span>{/if}
        </td>
        <td class="text-sm">
          {#if g.owns}<span class="chip">owner of {g.owns}</span>{:else if g.option}<span class="chip"
              >grant option</span
            >{/if}
          {#if g.until}<span class="chip">until {g.until.slice(0, 10)}</span>{/if}
          {#if g.ticket}<span class="chip">{g.ticket}</span>{/if}
          {#if g.reason}<span class="text-muted">{g.reason}</span>{/if}
          {#if g.dormant}
            <span class="rounded bg-feldspar-wash px-1">◇ dormant: {g.dormant}</span>
            {#if mine(g) && g.fix}<FixButton fix={g.fix} />{/if}
          {/if}
        </td>
        {#if manage}<td
            >{#if mine(g)}<button class="btn py-0 text-sm" onclick={() => revoke([g])}>Revoke</button>{/if}</td
          >{/if}
      </tr>
    {:else}
      <tr><td colspan="7" class="text-muted">{filter ? 'Nothing so named.' : 'No grants.'}</td></tr>
    {/each}
  </tbody>
</table>
{#if found.length > shown}
  <button class="btn m-2" onclick={() => (shown += 500)}>Show more of the {found.length - shown} left</button>
{/if}
{#if open}<RevokeDialog bind:open grants={revoking} />{/if}
