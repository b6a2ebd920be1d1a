<script lang="ts">
  import { DropdownMenu } from 'bits-ui'
  import { signed } from '../lib/session.svelte'
  import { looks, type Theme } from '../lib/theme.svelte'

  // Who is signed in, and what is about them alone.
  let { onkeys }: { onkeys: () => void } = $props()
  const themes: [Theme, string][] = [
    ['system', 'As the system'],
    ['light', 'Light'],
    ['dark', 'Dark'],
  ]
  const item = 'menu-item'
</script>

<DropdownMenu.Root>
  <DropdownMenu.Trigger class="btn w-full justify-between" aria-label={`Account ${signed.session?.user}`}>
    <span class="truncate">{signed.session?.user}</span><span aria-hidden="true">▴</span>
  </DropdownMenu.Trigger>
  <DropdownMenu.Portal disabled>
    <DropdownMenu.Content class="menu w-56" side="top" align="start" sideOffset={4}>
      {#if signed.session?.title}<p class="px-2 py-1 text-sm text-muted">{signed.session.title}</p>{/if}
      <DropdownMenu.RadioGroup value={looks.theme} onValueChange={(v) => looks.choose(v as Theme)}>
        <DropdownMenu.GroupHeading class="px-2 pt-1 text-xs text-muted">Colors</DropdownMenu.GroupHeading>
        {#each themes as [value, name] (value)}
          <DropdownMenu.RadioItem {value} class={item}>
            {name}{#if looks.theme === value}<span aria-hidden="true">●</span>{/if}
          </DropdownMenu.RadioItem>
        {/each}
      </DropdownMenu.RadioGroup>
      <DropdownMenu.Separator class="my-1 border-t border-line" />
      <DropdownMenu.Item class={item} onSelect={onkeys}>Keyboard shortcuts <kbd class="mono">?</kbd></DropdownMenu.Item>
      <DropdownMenu.Item class={item} onSelect={() => signed.signOut()}>Sign out</DropdownMenu.Item>
    </DropdownMenu.Content>
  </DropdownMenu.Portal>
</DropdownMenu.Root>
