<script lang="ts">
  import { Dialog } from 'bits-ui'
  import type { Snippet } from 'svelte'

  let {
    open = $bindable(false),
    title,
    wide = false,
    children,
  }: { open: boolean; title: string; wide?: boolean; children: Snippet } = $props()

  // The first field has the focus, not the button that closes.
  function focus(event: Event) {
    const first = document.querySelector<HTMLElement>(
      '[role=dialog] :is(input:not([type=checkbox], [type=radio], .sr-only), select, textarea)',
    )
    if (!first) return
    event.preventDefault()
    // Past the key that opened the dialog, and unless somebody was quicker.
    setTimeout(() => {
      if (!document.activeElement?.matches('[role=dialog] :is(input, select, textarea)')) first.focus()
    }, 30)
  }
</script>

<Dialog.Root bind:open>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-40 bg-[rgb(20_18_16/0.45)]" />
    <Dialog.Content
      onOpenAutoFocus={focus}
      class="panel fixed top-[6vh] left-1/2 z-50 max-h-[88vh] -translate-x-1/2 overflow-y-auto p-5 shadow-xl {wide
        ? 'w-[min(56rem,94vw)]'
        : 'w-[min(36rem,94vw)]'}"
    >
      <div class="mb-3 flex items-start justify-between gap-4">
        <Dialog.Title class="text-lg font-semibold">{title}</Dialog.Title>
        <Dialog.Close class="btn px-2 py-0" aria-label="Close">×</Dialog.Close>
      </div>
      {@render children()}
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
