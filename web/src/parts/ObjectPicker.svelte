<script lang="ts">
  import { objectsNamed } from '../lib/api'

  // Picks a source, schema or table by typing a part of its path.
  let { label, onpick }: { label: string; onpick: (path: string, kind: string) => void } = $props()
  let typed = $state('')
  let found = $state<{ name: string; kind: string }[]>([])
  const id = $props.id()

  $effect(() => {
    const asked = typed
    objectsNamed(asked)
      .then((list) => asked === typed && (found = list))
      .catch(() => (found = []))
  })

  // Enter takes what is typed, or the only path that has it; a choice from the
  // list comes as an input that no key made. Typing alone takes nothing.
  function pick() {
    const text = typed.trim().toLowerCase()
    const hit = found.find((f) => f.name === text) ?? (found.length === 1 ? found[0] : undefined)
    if (!hit) return
    onpick(hit.name, hit.kind)
    typed = ''
  }

  function chosen(event: Event) {
    const type = (event as InputEvent).inputType
    if (!type || type === 'insertReplacementText') queueMicrotask(pick)
  }

  function key(event: KeyboardEvent) {
    if (event.key !== 'Enter') return
    event.preventDefault()
    pick()
  }
</script>

<input
  class="field mono"
  aria-label={label}
  list={id}
  bind:value={typed}
  oninput={chosen}
  onkeydown={key}
  placeholder="survey.drilling …"
/>
<datalist {id}
  >{#each found as f (f.name)}<option value={f.name}>{f.kind}</option>{/each}</datalist
>
