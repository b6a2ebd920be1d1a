<script lang="ts">
  import { api, get, objectsNamed } from '../lib/api'

  // What a policy is about: a table, of a row policy also a pattern, or a label.
  let { value = $bindable(''), kind }: { value: string; kind: 'rows' | 'columns' } = $props()
  let typed = $state('')
  let offered = $state<string[]>([])
  let labels = $state<string[]>([])

  $effect(() => {
    get(api.GET('/api/v1/labels', {}))
      .then((list) => (labels = list.items.map((l) => l.path)))
      .catch(() => (labels = []))
  })
  $effect(() => {
    const text = typed.trim()
    const later = setTimeout(() => {
      objectsNamed(text.replaceAll('*', ''))
        .then((found) => (offered = found.filter((f) => f.kind === 'table').map((f) => f.name)))
        .catch(() => (offered = []))
    }, 120)
    return () => clearTimeout(later)
  })
</script>

<label class="text-sm text-muted"
  >On
  <input
    class="field mono text-ink"
    list="places"
    bind:value={typed}
    onchange={() => (value = typed.trim())}
    oninput={() => {
      if (offered.includes(typed) || labels.includes(typed)) value = typed
    }}
    name="on"
    required
    aria-label="On"
    placeholder={kind === 'rows' ? 'a table, a pattern such as survey.drilling.*, or label:…' : 'a table, or label:…'}
  />
  <datalist id="places">
    {#each labels as l (l)}<option value={l}></option>{/each}
    {#each offered as o (o)}<option value={o}></option>{/each}
  </datalist>
</label>
