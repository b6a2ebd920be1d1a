<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { api, get } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { loaded } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
  import ChangeDialog from './ChangeDialog.svelte'
  import Trouble from './Trouble.svelte'

  // Connected databases.
  const list = loaded(() => get(api.GET('/api/v1/sources', {})))
  const admin = $derived(!!signed.session?.administrator)
  let adding = $state(false)
  let name = $state('')
  let location = $state('')
  let scanning = $state('')

  async function scan(name: string) {
    scanning = name
    try {
      changes.made(await get(api.POST('/api/v1/sources/{name}/scan', { params: { path: { name } } })))
    } catch (error) {
      changes.failed(error)
    }
    scanning = ''
  }
</script>

<p class="mb-3 max-w-prose text-muted">
  A source is one connected database: a folder of SQLite files on the service's machine, one a schema, or a database of
  a PostgreSQL server. Nobody can read what a scan finds until it is granted; grants on the source and patterns cover
  what comes.
</p>
{#if list.problem}<Trouble problem={list.problem} />{/if}
<div class="panel overflow-x-auto" use:scrollable={'Sources'}>
  <table class="dense">
    <thead
      ><tr
        ><th>Source</th><th>Kind</th><th class="text-right!">Tables</th><th>Available</th><th>Location</th><th
          class="w-0"><span class="sr-only">Actions</span></th
        ></tr
      ></thead
    >
    <tbody>
      {#each list.value?.items ?? [] as s (s.name)}
        <tr>
          <td class="mono font-semibold"
            ><a class="hover:underline" href={place.href('/tables/' + s.name)}>{s.name}</a></td
          >
          <td>{s.kind}</td>
          <td class="text-right">{s.tables}</td>
          <td class={s.available ? 'text-epidote' : 'text-garnet'}
            >{s.available ? '● yes' : `⊘ no: ${s.problem ?? ''}`}</td
          >
          <td class="mono text-sm">{s.location ?? ''}</td>
          <td class="whitespace-nowrap">
            {#if admin}<button class="btn py-0 text-sm" disabled={!!scanning} onclick={() => scan(s.name)}
                >{scanning === s.name ? 'Scanning …' : 'Scan again'}</button
              >{/if}
          </td>
        </tr>
      {:else}
        <tr><td colspan="6" class="text-muted">No source is connected, or you may see none.</td></tr>
      {/each}
    </tbody>
  </table>
</div>
{#if admin && list.value}<button class="btn mt-3" onclick={() => (adding = true)}>Connect a source</button>{/if}
{#if adding}
  <ChangeDialog
    bind:open={adding}
    title="Connect a source"
    verb="Connect"
    asked={JSON.stringify([name, location])}
    ready={!!name && !!location}
    none="Nobody can read it until it is granted."
    send={(dry) => get(api.POST('/api/v1/sources', { body: { name, location, dry_run: dry || undefined } }))}
    ondone={() => place.go('/tables/' + name)}
  >
    <label class="text-sm text-muted"
      >Name <input class="field mono text-ink" bind:value={name} name="name" required /></label
    >
    <label class="text-sm text-muted"
      >Location <input
        class="field mono text-ink"
        bind:value={location}
        name="location"
        placeholder="/srv/survey, or postgresql://gneiss@db.north.test:5432/survey?passfile=/etc/gneiss/db"
        required
      /></label
    >
    <p class="text-sm text-muted">
      A folder of SQLite files on the service's machine, one a schema; or the URL of a PostgreSQL database, without the
      password, which stands in the file that <code class="mono">passfile</code> names.
    </p>
  </ChangeDialog>
{/if}
