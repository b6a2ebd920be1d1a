<script lang="ts">
  import { api, get, type Grant } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { place } from '../lib/place.svelte'

  let {
    grants,
    manage = false,
    about = 'both',
  }: { grants: Grant[]; manage?: boolean; about?: 'object' | 'subject' | 'both' } = $props()

  function request(g: Grant) {
    return { privileges: [g.privilege], object: g.object, subjects: [g.subject] }
  }

  async function revoke(g: Grant) {
    try {
      const done = await get(api.POST('/api/v1/grants/revoke', { body: request(g) }))
      changes.made(done, () =>
        get(
          api.POST('/api/v1/grants', { body: { ...request(g), option: g.option, ticket: g.ticket, until: g.until } }),
        ),
      )
    } catch (error) {
      changes.failed(error)
    }
  }
</script>

<table class="dense">
  <thead>
    <tr>
      <th>Privilege</th>
      {#if about !== 'object'}<th>On</th>{/if}
      {#if about !== 'subject'}<th>To</th>{/if}
      <th>By</th><th>Since</th><th>Note</th>{#if manage}<th class="w-0"><span class="sr-only">Revoke</span></th>{/if}
    </tr>
  </thead>
  <tbody>
    {#each grants as g (g.privilege + g.object + g.subject + g.grantor)}
      <tr>
        <td class="mono">{g.privilege}</td>
        {#if about !== 'object'}<td class="mono"
            ><a class="hover:underline" href={place.href('/tables/' + g.object)}>{g.object}</a></td
          >{/if}
        {#if about !== 'subject'}<td class="mono"
            ><a class="hover:underline" href={place.href('/subjects/' + g.subject)}>{g.subject}</a></td
          >{/if}
        <td class="mono text-muted">{g.grantor || 'built in'}</td>
        <td class="text-muted">{g.grantor ? g.at.slice(0, 10) : ''}</td>
        <td class="text-sm">
          {#if g.option}<span class="chip">grant option</span>{/if}
          {#if g.until}<span class="chip">until {g.until.slice(0, 10)}</span>{/if}
          {#if g.ticket}<span class="chip">{g.ticket}</span>{/if}
          {#if g.dormant}
            <span class="rounded bg-feldspar-wash px-1" title={g.wake ? 'To wake it: ' + g.wake : ''}
              >◇ dormant: {g.dormant}</span
            >
          {/if}
        </td>
        {#if manage}<td><button class="btn py-0 text-sm" onclick={() => revoke(g)}>Revoke</button></td>{/if}
      </tr>
    {:else}
      <tr><td colspan="7" class="text-muted">No grants.</td></tr>
    {/each}
  </tbody>
</table>
