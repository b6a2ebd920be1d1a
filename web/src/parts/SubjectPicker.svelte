<script lang="ts">
  import { Combobox } from 'bits-ui'
  import { subjects } from '../lib/subjects.svelte'

  let {
    value = $bindable(''),
    label,
    placeholder = 'user:, role:, group: …',
    kinds = [],
    onpick,
    id,
  }: {
    value?: string
    label: string
    placeholder?: string
    kinds?: string[]
    onpick?: (ref: string) => void
    id?: string
  } = $props()

  let typed = $state('')
  const found = $derived(
    subjects.all
      .filter(
        (s) =>
          (kinds.length === 0 || kinds.includes(s.kind)) &&
          (s.ref + ' ' + s.title).toLowerCase().includes(typed.toLowerCase()),
      )
      .slice(0, 60),
  )

  $effect(() => void subjects.load().catch(() => {}))

  function pick(ref: string) {
    typed = ''
    if (ref) onpick?.(ref)
  }
</script>

<Combobox.Root
  type="single"
  bind:value
  onValueChange={pick}
  inputValue={value}
  items={found.map((s) => ({ value: s.ref, label: s.ref }))}
>
  <Combobox.Input
    {id}
    class="field mono"
    aria-label={label}
    {placeholder}
    autocomplete="off"
    oninput={(e: Event) => (typed = (e.currentTarget as HTMLInputElement).value)}
    onfocus={(e: FocusEvent) => (e.currentTarget as HTMLInputElement).select()}
  />
  <Combobox.Portal>
    <Combobox.Content class="panel z-[60] max-h-72 w-80 overflow-y-auto p-1 shadow-lg" sideOffset={4} align="start">
      {#each found as s (s.ref)}
        <Combobox.Item value={s.ref} label={s.ref} class="menu-item">
          <span class="mono">{s.ref}</span><span class="truncate text-xs text-muted">{s.title}</span>
        </Combobox.Item>
      {:else}
        <div class="px-2 py-1 text-muted">No such subject.</div>
      {/each}
    </Combobox.Content>
  </Combobox.Portal>
</Combobox.Root>
