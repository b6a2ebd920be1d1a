<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { api, get } from '../lib/api'
  import { loaded } from '../lib/load.svelte'
  import { type Bundle } from '../lib/rights.svelte'
  import { vocabulary } from '../lib/vocabulary.svelte'
  import { signed } from '../lib/session.svelte'
  import ChangeDialog from './ChangeDialog.svelte'
  import Trouble from './Trouble.svelte'

  // Bundles: named sets of privileges that are granted like one.
  const list = loaded(() => get(api.GET('/api/v1/bundles', {})))
  const admin = $derived(!!signed.session?.administrator)
  let editing = $state(false)
  let removing = $state(false)
  let chosen = $state<Bundle | null>(null)
  let name = $state('')
  let privileges = $state<string[]>([])

  function edit(bundle: Bundle | null) {
    chosen = bundle
    name = bundle?.name ?? ''
    privileges = [...(bundle?.privileges ?? ['SELECT'])]
    editing = true
  }
  const put = (name: string, privileges: string[], replace: boolean, dry: boolean) =>
    get(
      api.POST('/api/v1/bundles', {
        body: { name, privileges, replace: replace || undefined, dry_run: dry || undefined },
      }),
    )
  const remove = (name: string, dry: boolean) =>
    get(api.DELETE('/api/v1/bundles/{name}', { params: { path: { name }, query: { dry_run: dry } } }))
</script>

<p class="mb-3 max-w-prose text-muted">
  A bundle is granted like a privilege, at any level; what of it applies there and below takes effect. Editing one
  changes what all its grants give.
</p>
{#if list.problem}<Trouble problem={list.problem} />{/if}
<div class="panel overflow-x-auto" use:scrollable={'Bundles'}>
  <table class="dense">
    <thead
      ><tr
        ><th>Bundle</th><th>Privileges</th><th class="text-right!">Grants</th><th><span class="sr-only">Kind</span></th
        ><th class="w-0"><span class="sr-only">Actions</span></th></tr
      ></thead
    >
    <tbody>
      {#each list.value?.items ?? [] as b (b.name)}
        <tr>
          <td class="mono font-semibold">{b.name}</td>
          <td class="mono">{b.privileges.join(', ')}</td>
          <td class="text-right">{b.grants}</td>
          <td class="text-muted">{b.built_in ? 'built in' : ''}</td>
          <td class="whitespace-nowrap">
            {#if admin}
              <button type="button" class="btn py-0 text-sm" onclick={() => edit(b)}>Edit</button>
              {#if !b.built_in}<button
                  type="button"
                  class="btn py-0 text-sm"
                  onclick={() => ((chosen = b), (removing = true))}>Remove</button
                >{/if}
            {/if}
          </td>
        </tr>
      {/each}
    </tbody>
  </table>
</div>
{#if admin && list.value}<button type="button" class="btn mt-3" onclick={() => edit(null)}>Add a bundle</button>{/if}
{#if editing}
  <ChangeDialog
    bind:open={editing}
    title={chosen ? `Edit the bundle ${chosen.name}` : 'Add a bundle'}
    verb={chosen ? 'Save' : 'Add'}
    asked={JSON.stringify([name, privileges])}
    ready={!!name && privileges.length > 0}
    send={(dry) => put(name, $state.snapshot(privileges), !!chosen, dry)}
    undo={() => {
      const [made, before] = [name, chosen?.privileges]
      return () => (before ? put(made, before, true, false) : remove(made, false))
    }}
    none="Nobody gains or loses anything by it now."
  >
    {#if !chosen}<label class="text-sm text-muted"
        >Name <input class="field mono text-ink" bind:value={name} name="name" required /></label
      >{/if}
    <div class="flex flex-wrap gap-x-4 gap-y-1">
      {#each vocabulary.privileges.filter((p) => p !== 'ALL') as p (p)}
        <label class="mono flex items-center gap-1.5"
          ><input type="checkbox" value={p} bind:group={privileges} /> {p}</label
        >
      {/each}
    </div>
  </ChangeDialog>
{/if}
{#if removing && chosen}
  <ChangeDialog
    bind:open={removing}
    title="Remove the bundle {chosen.name}"
    verb="Remove"
    asked={chosen.name}
    send={(dry) => remove(chosen!.name, dry)}
    undo={() => {
      const { name, privileges } = chosen!
      return () => put(name, privileges, false, false)
    }}
  />
{/if}
