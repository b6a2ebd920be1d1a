<script lang="ts">
  import { api, get, type Schemas } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import Modal from './Modal.svelte'

  let { open = $bindable(false) }: { open: boolean } = $props()
  let text = $state('')
  let found = $state<Schemas['WireFound'][]>([])
  let chosen = $state(0)
  let foundFor = $state('')
  let more = $state(false)
  let waiting = false // Enter was pressed before the answer to what is typed

  $effect(() => {
    const asked = text
    if (!open) return
    get(api.GET('/api/v1/search', { params: { query: { text: asked, ...place.at } } }))
      .then((list) => {
        if (asked === text) {
          found = list.items
          more = !!list.next
          foundFor = asked
          chosen = 0
          if (waiting) visit(found[0])
        }
      })
      .catch(() => (found = []))
  })

  function where(f: Schemas['WireFound']): [string, Record<string, string>] {
    if (['user', 'service', 'group', 'public'].includes(f.kind)) return ['/subjects/' + f.name, {}]
    if (f.kind === 'role') return ['/roles/' + f.name, {}]
    if (f.kind === 'policy') return ['/policies', { name: f.name }]
    return ['/tables/' + f.name, {}]
  }

  function visit(f?: Schemas['WireFound']) {
    waiting = false
    if (!f) return
    place.go(...where(f))
    open = false
  }

  function key(event: KeyboardEvent) {
    if (event.key === 'ArrowDown') chosen = Math.min(chosen + 1, found.length - 1)
    else if (event.key === 'ArrowUp') chosen = Math.max(chosen - 1, 0)
    else if (event.key === 'Enter') {
      waiting = foundFor !== text
      if (!waiting) visit(found[chosen])
    } else return
    event.preventDefault()
  }
</script>

<Modal bind:open title="Search">
  <input
    class="field"
    bind:value={text}
    onkeydown={key}
    placeholder="a subject, an object or a policy"
    aria-label="Search for"
  />
  <ul class="mt-2 max-h-80 overflow-y-auto" aria-label="Found">
    {#each found as f, i (f.kind + f.name)}
      <li>
        <a
          href={place.href(...where(f))}
          onclick={() => (open = false)}
          class="flex gap-3 rounded px-2 py-1 {i === chosen ? 'bg-raised outline outline-line-strong' : ''}"
        >
          <span class="w-16 shrink-0 text-muted">{f.kind}</span><span class="mono shrink-0">{f.name}</span>
          <span class="truncate text-sm text-muted">{f.says}</span>
        </a>
      </li>
    {:else}
      <li class="px-2 py-1 text-muted">Nothing has that in its name.</li>
    {/each}
    {#if more}<li class="px-2 py-1 text-muted">There is more; type more of the name.</li>{/if}
  </ul>
</Modal>
