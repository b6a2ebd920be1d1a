<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { api, get, type View } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import ChangeDialog from './ChangeDialog.svelte'
  import ViewDialog from './ViewDialog.svelte'

  // What a view is made of.
  let { view, manage }: { view: View; manage: boolean } = $props()
  let editing = $state(false)
  let dropping = $state(false)
</script>

<p class="mb-2">
  It reads its tables with the rights of its {view.rights}{#if view.rights === 'owner'},
    <a class="mono hover:underline" href={place.href('/subjects/' + view.owner)}>{view.owner || 'nobody'}</a
    >{/if}{view.sealed ? '; it is sealed' : ''}. What policies leave of them is its reader's own.
</p>
{#if view.text}
  <pre
    class="mono panel overflow-auto p-3 whitespace-pre-wrap"
    data-testid="view-text"
    use:scrollable={'Text'}>{view.text}</pre>
{:else}
  <p class="panel p-3 text-muted">Its text is sealed: only those with DESCRIBE on the view see it.</p>
{/if}
{#if manage}
  <div class="mt-3 flex gap-2">
    <button type="button" class="btn" onclick={() => (editing = true)}>Change the text</button>
    <button type="button" class="btn" onclick={() => (dropping = true)}>Remove it</button>
  </div>
{/if}
{#if editing}<ViewDialog bind:open={editing} {view} />{/if}
{#if dropping}
  <ChangeDialog
    bind:open={dropping}
    title="Remove {view.path}"
    verb="Remove it"
    asked={view.path}
    none="Nobody loses anything by it."
    send={(dry) =>
      get(api.DELETE('/api/v1/views/{name}', { params: { path: { name: view.path }, query: { dry_run: dry } } }))}
    ondone={() => place.go('/tables/' + view.path.slice(0, view.path.lastIndexOf('.')))}
  />
{/if}
