<script lang="ts">
  import Modal from './Modal.svelte'

  let { open = $bindable(false), pages }: { open: boolean; pages: [string, string][] } = $props()
  const keys = $derived<[string, string][]>([
    ['/', 'search subjects, objects and policies'],
    ['x', 'back to your own view'],
    ...pages.map(([key, name]) => [key, 'go to ' + name] as [string, string]),
    ['↑ ↓ → ←', 'move, open and close in the tree'],
    ['↑ ↓ → ←, Enter', 'walk through a table; sort by a heading, or use what a cell has'],
    ['Shift ↑ ↓ → ←', 'mark cells; make a heading’s column wider or narrower'],
    ['Ctrl c', 'copy the marked cells'],
    ['Ctrl Enter', 'run the query'],
    ['Esc', 'close a dialog'],
    ['?', 'this list'],
  ])
</script>

<Modal bind:open title="Keyboard shortcuts">
  <dl class="grid grid-cols-[7rem_1fr] gap-y-1">
    {#each keys as [key, does] (key)}
      <dt><kbd class="chip">{key}</kbd></dt>
      <dd>{does}</dd>
    {/each}
  </dl>
</Modal>
