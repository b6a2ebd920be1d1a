<script lang="ts">
  import type { Snippet } from 'svelte'
  import type { Changed } from '../lib/api'
  import ChangeDialog from './ChangeDialog.svelte'

  // A change with nothing to fill in: a button that shows what it would do, and to whom, before it does it.
  let {
    title,
    verb,
    send,
    undo,
    ondone,
    none,
    sentence = false,
    label,
    class: look = 'btn py-0 text-sm',
    children,
  }: {
    title: string
    verb: string
    send: (dry: boolean) => Promise<Changed>
    undo?: () => () => Promise<Changed>
    ondone?: () => void
    none?: string
    /** Shows in words what it would do, too, where the title does not say it. */
    sentence?: boolean
    /** What the button is called where it shows no word. */
    label?: string
    class?: string
    /** What the button shows; its verb without. */
    children?: Snippet
  } = $props()
  let open = $state(false)
</script>

<button type="button" class={look} aria-label={label} onclick={() => (open = true)}
  >{#if children}{@render children()}{:else}{verb}{/if}</button
>
{#if open}<ChangeDialog bind:open {title} {verb} asked={title} {send} {undo} {ondone} {none} {sentence} />{/if}
