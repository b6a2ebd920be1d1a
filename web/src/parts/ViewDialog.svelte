<script lang="ts">
  import { untrack } from 'svelte'
  import { api, get, type View } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import ChangeDialog from './ChangeDialog.svelte'
  import SubjectPicker from './SubjectPicker.svelte'

  // Creates a view in a schema, or replaces one.
  let { open = $bindable(false), schema = '', view }: { open: boolean; schema?: string; view?: View } = $props()
  const was = untrack(() => view)
  let name = $state('')
  let text = $state(was?.text ?? '')
  let rights = $state<'owner' | 'reader'>(was?.rights ?? 'owner')
  let owner = $state('')
  let sealed = $state(was?.sealed ?? false)
  const path = $derived(was?.path ?? `${schema}.${name}`)
</script>

<ChangeDialog
  bind:open
  title={was ? `Change ${was.path}` : `Create a view in ${schema}`}
  verb={was ? 'Replace' : 'Create'}
  asked={JSON.stringify([path, text, rights, sealed, owner])}
  ready={(!!was || !!name) && !!text.trim()}
  none="Nobody gains or loses by it now; grant SELECT on it to let others read it."
  send={(dry) =>
    get(
      api.POST('/api/v1/views', {
        body: {
          path,
          text,
          rights,
          sealed,
          owner: owner || undefined,
          replace: !!was || undefined,
          dry_run: dry || undefined,
        },
      }),
    )}
  ondone={() => place.go('/tables/' + path)}
>
  {#if !was}
    <label class="text-sm text-muted"
      >Name <input class="field mono text-ink" bind:value={name} name="name" required /></label
    >
  {/if}
  <label class="text-sm text-muted"
    >Text <textarea
      class="field mono min-h-20 text-ink"
      bind:value={text}
      name="text"
      spellcheck="false"
      placeholder="SELECT id, name, depth_m FROM drilling.boreholes WHERE depth_m > 500"
      required></textarea></label
  >
  <label class="text-sm text-muted"
    >It reads its tables with the rights of
    <select class="field text-ink" bind:value={rights} name="rights"
      ><option value="owner">its owner: readers need SELECT on the view alone</option><option value="reader"
        >its reader: who also needs SELECT on what it reads</option
      ></select
    ></label
  >
  <div class="text-sm text-muted">
    Owner
    <SubjectPicker
      bind:value={owner}
      label="Owner"
      placeholder={was?.owner || 'you, or a role that you hold'}
      kinds={['role']}
    />
  </div>
  <label class="flex items-center gap-2"
    ><input type="checkbox" bind:checked={sealed} name="sealed" /> sealed: its text is shown to nobody without DESCRIBE</label
  >
  <p class="text-sm text-muted">Row and column policies are always the reader's, whoever's rights it has.</p>
</ChangeDialog>
