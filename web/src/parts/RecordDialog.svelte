<script lang="ts">
  import { momentOf } from '../lib/dates'
  import { api, get, says, type AuditRecord, type Problem } from '../lib/api'
  import Modal from './Modal.svelte'
  import Trouble from './Trouble.svelte'

  let { open = $bindable(false), reference }: { open: boolean; reference: string } = $props()
  let record = $state<AuditRecord | null>(null)
  let problem = $state<Problem | null>(null)

  $effect(() => {
    get(api.GET('/api/v1/records/{ref}', { params: { path: { ref: reference } } }))
      .then((r) => (record = r))
      .catch((error) => (problem = says(error)))
  })
</script>

<Modal bind:open wide title="Record {reference}">
  {#if problem}
    <Trouble {problem} />
  {:else if record}
    <dl class="grid grid-cols-[7rem_1fr] gap-y-1">
      <dt class="text-muted">who</dt>
      <dd class="mono">{record.actor}{record.standpoint ? ` as ${record.standpoint}` : ''}</dd>
      <dt class="text-muted">at</dt>
      <dd>
        {momentOf(record.at)}{record.address ? `, from ${record.address}` : ''}{record.client
          ? `, with ${record.client}`
          : ''}{record.status === 'running'
          ? ', still running'
          : record.status === 'unknown'
            ? '; how it ended is not known: the service stopped first'
            : ''}
      </dd>
      <dt class="text-muted">did</dt>
      <dd>{record.action}: {record.decision}, {record.rows} rows in {record.took_ms.toFixed(1)} ms</dd>
      <dt class="text-muted">read</dt>
      <dd>
        {#each record.objects as o (o)}<span class="chip mr-1">{o}</span>{/each}
      </dd>
      {#if record.labels.length}
        <dt class="text-muted">labels</dt>
        <dd>
          {#each record.labels as l (l)}<span class="chip mr-1">{l}</span>{/each}
        </dd>
      {/if}
    </dl>
    <pre class="mono mt-3 rounded bg-raised p-3 whitespace-pre-wrap">{record.text}</pre>
    {#if record.decision !== 'allowed'}
      <div class="mt-3">
        <Trouble
          problem={{
            type: '',
            title: '',
            status: 403,
            code: record.decision,
            detail: record.reason ?? 'Refused.',
            missing: record.missing,
            fixes: record.fixes,
          }}
        />
      </div>
    {/if}
  {/if}
</Modal>
