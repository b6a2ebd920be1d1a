<script lang="ts">
  import Modal from './Modal.svelte'

  let { open = $bindable(false), pages }: { open: boolean; pages: [string, string][] } = $props()
  const keys = $derived<[string, string][]>([
    ['/', 'search subjects, objects and policies'],
    ['x', 'step back to your own standpoint'],
    ...pages.map(([key, name]) => [key, 'go to ' + name] as [string, string]),
    ['↑ ↓ → ←', 'move, open and close in the tree'],
    ['Ctrl Enter', 'run the query'],
    ['Esc', 'close a dialog'],
    ['?', 'these keys'],
  ])
</script>

<Modal bind:open title="Keys">
  <dl class="grid grid-cols-[7rem_1fr] gap-y-1">
    {#each keys as [key, does] (key)}
      <dt><kbd class="chip">{key}</kbd></dt>
      <dd>{does}</dd>
    {/each}
  </dl>
</Modal>
