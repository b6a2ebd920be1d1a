<script lang="ts">
  import { vocabulary } from '../lib/vocabulary.svelte'
  import { api, get, type Schemas } from '../lib/api'
  import type { Column } from '../lib/grid'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
  import ChangeDialog from './ChangeDialog.svelte'
  import Grid from './Grid.svelte'
  import PlaceLabelDialog from './PlaceLabelDialog.svelte'
  import PolicyDialog from './PolicyDialog.svelte'

  // The labels: where they are, and which policies use them.
  type Label = Schemas['WireLabel']
  let { labels }: { labels: Label[] | null } = $props()
  const admin = $derived(!!signed.session?.administrator)
  let dialog = $state<'' | 'edit' | 'remove' | 'place' | 'policy'>('')
  let chosen = $state<Label | null>(null)
  let name = $state('')
  let topic = $state('')
  let level = $state<Label['level']>('confidential')
  const levels = $derived(vocabulary.all.levels as Label['level'][])
  const tones: Record<string, string> = { restricted: 'text-garnet', confidential: 'text-feldspar' }

  function show(which: typeof dialog, label: Label | null) {
    chosen = label
    name = label?.name ?? ''
    topic = label?.topic ?? ''
    level = label?.level ?? 'confidential'
    dialog = which
  }
  const put = (body: { name: string; topic: string; level: Label['level'] }, replace: boolean, dry: boolean) =>
    get(api.POST('/api/v1/labels', { body: { ...body, replace: replace || undefined, dry_run: dry || undefined } }))
  const remove = (name: string, dry: boolean) =>
    get(api.DELETE('/api/v1/labels/{name}', { params: { path: { name }, query: { dry_run: dry } } }))
  const closed = { get: () => dialog !== '', set: (open: boolean) => open || (dialog = '') }

  const columns: Column<Label>[] = [
    { id: 'label', head: 'Label', class: 'mono font-semibold', value: (l) => l.path },
    { id: 'topic', head: 'Topic', value: (l) => l.topic },
    { id: 'level', head: 'Level', value: (l) => l.level },
    { id: 'columns', head: 'Columns', number: true, value: (l) => l.columns },
    { id: 'treated', head: 'Treated', number: true, value: (l) => l.covered },
    { id: 'policies', head: 'Policies on it', value: (l) => l.policies.join(', ') },
    { id: 'clear', head: 'In clear for', value: (l) => l.revealed.join(', ') },
    { id: 'actions', head: 'Actions', controls: true, class: 'whitespace-nowrap', value: () => '' },
  ]
</script>

{#snippet cell(l: Label, c: Column<Label>)}
  {#if c.id === 'label'}
    <a class="hover:underline" href={place.href('/labels/columns', { label: l.name })}>{l.path}</a>
  {:else if c.id === 'level'}<span class={tones[l.level] ?? ''}>{l.level}</span>
  {:else if c.id === 'treated'}
    <span class={l.covered < l.columns ? 'font-semibold text-garnet' : ''}
      >{l.covered}{l.covered < l.columns ? ' ◆' : ''}</span
    >
  {:else if c.id === 'policies'}{#each l.policies as p (p)}<span class="chip mr-1">{p}</span>{/each}
  {:else if c.id === 'clear'}{#each l.revealed as r (r)}<span class="chip mr-1">{r}</span>{/each}
  {:else if c.id === 'actions'}
    {#if admin}
      <button type="button" class="btn py-0 text-sm" onclick={() => show('place', l)}>Put on …</button>
      <button type="button" class="btn py-0 text-sm" onclick={() => show('policy', l)}>Policy</button>
      <button type="button" class="btn py-0 text-sm" onclick={() => show('edit', l)}>Edit</button>
      <button type="button" class="btn py-0 text-sm" onclick={() => show('remove', l)}>Remove</button>
    {/if}
  {:else}{c.value(l)}{/if}
{/snippet}

<p class="mb-3 max-w-prose text-muted">
  A label says what data are about. Put on a table or schema it goes down to every column. A policy on a label treats
  all columns with the label, present and future; REVEAL on the label shows them in clear.
</p>
{#if labels?.length}
  <Grid name="Labels" {columns} rows={labels} key={(l) => l.name} {cell} />
{:else if labels}
  <p class="panel p-4 text-muted">
    No labels yet. See suggestions from your data under <a class="underline" href={place.href('/labels/suggestions')}
      >Suggestions</a
    >, or add one.
  </p>
{:else}<div class="h-32 animate-pulse rounded bg-raised"></div>{/if}
{#if admin && labels}<button type="button" class="btn mt-3" onclick={() => show('edit', null)}>Add a label</button>{/if}

{#if dialog === 'edit'}
  <ChangeDialog
    bind:open={closed.get, closed.set}
    title={chosen ? `Edit ${chosen.path}` : 'Add a label'}
    verb={chosen ? 'Save' : 'Add'}
    asked={JSON.stringify([name, topic, level])}
    ready={!!name}
    send={(dry) => put({ name, topic, level }, !!chosen, dry)}
    undo={() => {
      const made = name
      if (!chosen) return () => remove(made, false)
      const before = { name: chosen.name, topic: chosen.topic, level: chosen.level }
      return () => put(before, true, false)
    }}
    none="Nobody gains or loses anything by it now."
  >
    {#if !chosen}<label class="text-sm text-muted"
        >Name <input class="field mono text-ink" bind:value={name} name="name" required placeholder="contact" /></label
      >{/if}
    <label class="text-sm text-muted"
      >Topic <input
        class="field text-ink"
        bind:value={topic}
        placeholder={name || 'what it is about, in a word'}
      /></label
    >
    <label class="text-sm text-muted"
      >Level <select class="field w-auto text-ink" bind:value={level}
        >{#each levels as l (l)}<option>{l}</option>{/each}</select
      ></label
    >
  </ChangeDialog>
{:else if dialog === 'remove' && chosen}
  <ChangeDialog
    bind:open={closed.get, closed.set}
    title="Remove {chosen.path}"
    verb="Remove"
    asked={chosen.name}
    send={(dry) => remove(chosen!.name, dry)}
    sentence
  />
{:else if dialog === 'place' && chosen}
  <PlaceLabelDialog bind:open={closed.get, closed.set} label={chosen.name} />
{:else if dialog === 'policy' && chosen}
  <PolicyDialog bind:open={closed.get, closed.set} kind="columns" on={chosen.path} />
{/if}
