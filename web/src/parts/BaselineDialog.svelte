<script lang="ts">
  import { api, get } from '../lib/api'
  import ChangeDialog from './ChangeDialog.svelte'
  import ObjectPicker from './ObjectPicker.svelte'
  import SubjectPicker from './SubjectPicker.svelte'

  // An access test of how things stand for somebody and a table.
  let { open = $bindable(false) }: { open: boolean } = $props()
  let subject = $state('')
  let table = $state('')
  let name = $state('')
</script>

<ChangeDialog
  bind:open
  title="Record an access test"
  verb="Keep it"
  asked={`${subject} ${table} ${name}`}
  ready={!!subject && !!table}
  none="It states what they get now: rows, columns, and what they may."
  sentence
  send={(dry) =>
    get(api.POST('/api/v1/access-tests/baseline', { body: { subject, table, name: name || undefined, dry_run: dry } }))}
>
  <p class="text-sm text-muted">Of whom</p>
  <SubjectPicker bind:value={subject} label="Of whom" placeholder="a user, service, group or role" />
  <p class="text-sm text-muted">And which table</p>
  {#if table}<p>
      <span class="chip"
        >{table} <button type="button" aria-label="Another table" onclick={() => (table = '')}>×</button></span
      >
    </p>
  {:else}<ObjectPicker label="Table" onpick={(path) => (table = path)} />{/if}
  <label class="text-sm text-muted"
    >Name <input class="field mono text-ink" bind:value={name} placeholder="of subject and table" /></label
  >
</ChangeDialog>
