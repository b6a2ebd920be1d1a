<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { api, get, type Schemas } from '../lib/api'
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
  let moving = $state('')
  let removing = $state('')
  let viewed = $state('')
  let views = $state<Schemas['WireDatabaseView'][]>([])
  let checked = $state<Schemas['WireSourceCheck']>()

  async function scan(name: string) {
    scanning = name
    try {
      changes.made(await get(api.POST('/api/v1/sources/{name}/scan', { params: { path: { name } } })))
    } catch (error) {
      changes.failed(error)
    }
    scanning = ''
  }

  async function check(name: string) {
    try {
      checked = await get(api.GET('/api/v1/sources/{name}/check', { params: { path: { name } } }))
    } catch (error) {
      changes.failed(error)
    }
  }

  async function look(name: string) {
    try {
      views = (await get(api.GET('/api/v1/sources/{name}/views', { params: { path: { name } } }))).items
      viewed = name
    } catch (error) {
      changes.failed(error)
    }
  }

  async function take(v: Schemas['WireDatabaseView']) {
    const name = viewed
    try {
      changes.made(
        await get(
          v.adopted
            ? api.DELETE('/api/v1/sources/{name}/views/{view}', { params: { path: { name, view: v.view } } })
            : api.POST('/api/v1/sources/{name}/views', { params: { path: { name } }, body: { view: v.view } }),
        ),
      )
      await look(name)
    } catch (error) {
      changes.failed(error)
    }
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
          <td class="mono min-w-40 text-sm break-all">{s.location ?? ''}</td>
          <td class="whitespace-nowrap">
            {#if admin}<button type="button" class="btn py-0 text-sm" disabled={!!scanning} onclick={() => scan(s.name)}
                >{scanning === s.name ? 'Scanning …' : 'Scan again'}</button
              >
              <button type="button" class="btn py-0 text-sm" onclick={() => check(s.name)}>Check</button>
              {#if s.kind === 'postgresql'}<button type="button" class="btn py-0 text-sm" onclick={() => look(s.name)}
                  >Views</button
                >{/if}
              <button
                type="button"
                class="btn py-0 text-sm"
                onclick={() => ((location = s.location ?? ''), (moving = s.name))}>Move</button
              >
              <button type="button" class="btn py-0 text-sm" onclick={() => (removing = s.name)}>Disconnect</button
              >{/if}
          </td>
        </tr>
      {:else}
        <tr><td colspan="6" class="text-muted">No source is connected, or you may see none.</td></tr>
      {/each}
    </tbody>
  </table>
</div>
{#if checked}
  <section class="panel mt-4 p-4" aria-live="polite">
    <div class="mb-2 flex items-center justify-between">
      <h2>Check of <span class="font-mono">{checked.name}</span></h2>
      <button type="button" class="btn py-0 text-sm" onclick={() => (checked = undefined)}>Close</button>
    </div>
    <ul>
      {#each checked.notes as note, i (i)}
        <li class="py-0.5 {note.worry === 'bad' ? 'text-garnet' : note.worry === 'odd' ? 'text-feldspar' : ''}">
          {note.worry === 'bad' ? '⊘' : note.worry === 'odd' ? '◐' : '●'}
          {note.says}
        </li>
      {/each}
    </ul>
  </section>
{/if}
{#if viewed}
  <section class="panel mt-4 p-4" aria-live="polite">
    <div class="mb-2 flex items-center justify-between">
      <h2>Views of the database of <span class="font-mono">{viewed}</span></h2>
      <button type="button" class="btn py-0 text-sm" onclick={() => (viewed = '')}>Close</button>
    </div>
    <ul class="divide-y divide-line">
      {#each views as v (v.view)}
        <li class="flex items-start justify-between gap-4 py-2">
          <div>
            <span class="mono font-semibold">{v.view}</span>
            <p class="text-sm text-muted">{v.says}.</p>
          </div>
          <button type="button" class="btn py-0 text-sm whitespace-nowrap" onclick={() => take(v)}
            >{v.adopted ? 'Leave out' : 'Take in'}</button
          >
        </li>
      {:else}
        <li class="text-muted">There are none that the account may read.</li>
      {/each}
    </ul>
  </section>
{/if}
{#if moving}
  <ChangeDialog
    bind:open={() => !!moving, (open) => (moving = open ? moving : '')}
    title={'Move ' + moving}
    verb="Move"
    asked={JSON.stringify([moving, location])}
    ready={!!location}
    none="Nobody gains or loses anything."
    send={(dry) =>
      get(
        api.PATCH('/api/v1/sources/{name}', {
          params: { path: { name: moving } },
          body: { location, dry_run: dry || undefined },
        }),
      )}
  >
    <label class="text-sm text-muted"
      >Location <input class="field mono text-ink" bind:value={location} name="location" required /></label
    >
    <p class="text-sm text-muted">
      What it holds is looked at again. Grants and policies stay with the objects of the same names.
    </p>
  </ChangeDialog>
{/if}
{#if removing}
  <ChangeDialog
    bind:open={() => !!removing, (open) => (removing = open ? removing : '')}
    title={'Disconnect ' + removing}
    verb="Disconnect"
    asked={removing}
    ready
    none="Whoever reads its tables now no longer can."
    send={(dry) =>
      get(
        api.DELETE('/api/v1/sources/{name}', {
          params: { path: { name: removing }, query: { dry_run: dry || undefined } },
        }),
      )}
  >
    <p>
      Nothing in its database is touched. Grants, policies and views on it stay and take no effect, until a source is
      connected under this name again.
    </p>
  </ChangeDialog>
{/if}
{#if admin && list.value}<button type="button" class="btn mt-3" onclick={() => ((location = ''), (adding = true))}
    >Connect a source</button
  >{/if}
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
