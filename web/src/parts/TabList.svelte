<script lang="ts">
  import { Tabs } from 'bits-ui'

  // The heads of tabs, inside a Tabs.Root.
  let { tabs }: { tabs: [value: string, name: string][] } = $props()
</script>

<Tabs.List class="mb-4 flex flex-wrap gap-1 border-b border-line">
  {#each tabs as [value, name] (value)}
    <Tabs.Trigger
      {value}
      class="-mb-px whitespace-nowrap border-b-2 border-transparent px-3 py-1.5 data-[state=active]:border-garnet data-[state=active]:font-semibold"
      >{name}</Tabs.Trigger
    >
  {/each}
</Tabs.List>
