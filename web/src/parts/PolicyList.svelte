<script lang="ts">
  import { api, get, type Policy } from '../lib/api'
  import { changes } from '../lib/changes.svelte'

  let { policies, manage, onedit }: { policies: Policy[]; manage: boolean; onedit: (p: Policy) => void } = $props()

  async function status(p: Policy, next: 'live' | 'off') {
    const set = (to: 'live' | 'off' | 'draft') =>
      get(api.PATCH('/api/v1/policies/{name}', { params: { path: { name: p.name } }, body: { status: to } }))
    try {
      changes.made(await set(next), () => set(p.status))
    } catch (error) {
      changes.failed(error)
    }
  }

  async function remove(p: Policy) {
    try {
      const done = await get(api.DELETE('/api/v1/policies/{name}', { params: { path: { name: p.name } } }))
      changes.made(done, () => get(api.POST('/api/v1/policies', { body: p })))
    } catch (error) {
      changes.failed(error)
    }
  }
  const marks: Record<string, string> = { live: '●', draft: '◌', off: '○' }
</script>

<ul class="flex flex-col gap-2">
  {#each policies as p (p.name)}
    <li class="panel p-3">
      <div class="flex items-baseline justify-between gap-3">
        <span
          ><b class="mono">{p.name}</b>
          <span class="text-sm text-muted">{p.kind === 'rows' ? 'row policy' : 'column policy'}, {p.table}</span></span
        >
        <span class="chip {p.status === 'live' ? 'text-epidote' : 'text-muted'}">{marks[p.status]} {p.status}</span>
      </div>
      <p class="mt-1">{p.sentence}.</p>
      {#if p.broken}<p class="mt-1 text-garnet">
          ⊘ It no longer fits its table ({p.broken}); the table is closed until it is edited or stopped.
        </p>{/if}
      {#if manage}
        <div class="mt-2 flex gap-2">
          <button class="btn py-0 text-sm" onclick={() => onedit(p)}>Edit</button>
          {#if p.status === 'live'}<button class="btn py-0 text-sm" onclick={() => status(p, 'off')}>Stop</button>
          {:else}<button class="btn py-0 text-sm" onclick={() => status(p, 'live')}>Publish</button>{/if}
          <button class="btn py-0 text-sm" onclick={() => remove(p)}>Remove</button>
        </div>
      {/if}
    </li>
  {:else}
    <li class="text-muted">No policies: who holds SELECT sees all rows, and all columns in clear.</li>
  {/each}
</ul>
