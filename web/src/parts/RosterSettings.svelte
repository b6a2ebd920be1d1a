<script lang="ts">
  import { api, get } from '../lib/api'
  import { signed } from '../lib/session.svelte'
  import ChangeDialog from './ChangeDialog.svelte'

  // Subjects, attributes and memberships, in from files and out.
  let files = $state<{ name: string; content: string }[]>([])
  let open = $state(false)

  async function read(event: Event) {
    const input = event.currentTarget as HTMLInputElement
    files = await Promise.all([...(input.files ?? [])].map(async (f) => ({ name: f.name, content: await f.text() })))
    input.value = ''
    open = files.length > 0
  }

  async function save(name: string, accept: string, part?: 'subjects' | 'memberships') {
    const answer = await fetch('/api/v1/roster' + (part ? `?part=${part}&csv_safe=true` : ''), {
      headers: { Accept: accept },
    })
    const link = document.createElement('a')
    link.href = URL.createObjectURL(await answer.blob())
    link.download = name
    link.click()
    URL.revokeObjectURL(link.href)
  }
</script>

<h2 class="mb-1">Export</h2>
<p class="mb-2 max-w-prose text-muted">
  All users, services, groups and roles with their attributes, and who is in or holds what.
</p>
<div class="mb-6 flex gap-2">
  <button type="button" class="btn" onclick={() => save('roster.json', 'application/json')}>All as JSON</button>
  <button type="button" class="btn" onclick={() => save('subjects.csv', 'text/csv', 'subjects')}>Subjects as CSV</button
  >
  <button type="button" class="btn" onclick={() => save('memberships.csv', 'text/csv', 'memberships')}
    >Memberships as CSV</button
  >
</div>
{#if signed.session?.administrator}
  <h2 class="mb-1">Import</h2>
  <p class="mb-2 max-w-prose text-muted">
    JSON or CSV files, as the export writes them. What is there already is changed where it differs; nothing is taken
    away. All of it is taken in, or none: a line that is bad is named.
  </p>
  <pre class="mono panel mb-3 max-w-prose p-3 text-xs!">subject,title,disabled,lead,attribute:districts
user:flint,geologist of the north,no,user:chert,north;coast

member,of,until,option,reason,ticket
user:flint,group:north,2027-01-31,no,,GS-40</pre>
  <label class="btn w-fit"
    >Choose files … <input class="sr-only" type="file" accept=".csv,.json" multiple onchange={read} /></label
  >
{/if}
{#if open}
  <ChangeDialog
    bind:open
    title="Import {files.map((f) => f.name).join(', ')}"
    verb="Import"
    asked={JSON.stringify(files)}
    none="Nobody gains or loses a right by it."
    send={(dry) =>
      get(api.POST('/api/v1/roster', { body: { subjects: [], memberships: [], files, dry_run: dry || undefined } }))}
  />
{/if}
