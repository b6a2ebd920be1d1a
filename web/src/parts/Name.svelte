<script lang="ts">
  // A path or a reference that breaks where its parts end.
  let { of }: { of: string } = $props()
  const parts = $derived(of.split(/(?<=[.:_])/))
</script>

{#each parts as part, i (i)}{part}<wbr />{/each}
