<script lang="ts">
  import type { Schemas } from '../lib/api'
  import { subjects } from '../lib/subjects.svelte'
  import { isText } from '../lib/types'

  // A condition in words: how a column compares with the reader, once or several times.
  type Phrase = Schemas['WirePhrase']
  let {
    phrases = $bindable(),
    join = $bindable(),
    columns,
    begin = false,
    onchange,
  }: {
    phrases: Phrase[]
    join: string
    columns: Schemas['WireColumnView'][]
    /** Begins with one condition where there is none. */
    begin?: boolean
    onchange: () => void
  } = $props()

  const kinds: [Phrase['kind'], string][] = [
    ['attribute', 'is one of the reader’s'],
    ['group', 'names a group of the reader’s'],
    ['listed', 'is listed for the reader in'],
    ['team', 'is in the reader’s team'],
    ['reader', 'is the reader'],
    ['come', 'has come'],
    ['all', 'whatever it is: all rows'],
  ]
  const attributes = $derived([...new Set(subjects.all.flatMap((s) => Object.keys(s.attributes)))].sort())
  // A column and an attribute that are named alike, such as district and districts, are
  // the likeliest pair.
  function likely(): Phrase | null {
    for (const c of columns)
      for (const a of attributes)
        if (a.startsWith(c.name) || c.name.startsWith(a)) return { kind: 'attribute', column: c.name, attribute: a }
    return null
  }
  function fresh(): Phrase {
    const column = columns.find((c) => isText(c.type))?.name ?? columns[0]?.name ?? ''
    return likely() ?? { kind: 'attribute', column, attribute: attributes[0] ?? '' }
  }
  let begun = false
  $effect(() => {
    if (!begin || begun || phrases.length || !likely()) return
    begun = true
    add()
  })
  $effect(() => void subjects.load().catch(() => {}))
  function add() {
    phrases = [...phrases, fresh()]
    onchange()
  }
  function drop(i: number) {
    phrases = phrases.filter((_, at) => at !== i)
    onchange()
  }
</script>

<div class="flex flex-col gap-1.5">
  {#each phrases as p, i (i)}
    <div class="flex flex-wrap items-center gap-1.5">
      {#if i === 0}<span class="w-12">where</span>
      {:else}<select class="field w-16" bind:value={join} {onchange} aria-label="And or or"
          ><option value="AND">and</option><option value="OR">or</option></select
        >{/if}
      {#if p.kind !== 'all'}<select class="field mono w-auto" bind:value={p.column} {onchange} aria-label="Column"
          >{#each columns as c (c.name)}<option>{c.name}</option>{/each}</select
        >{/if}
      <select class="field w-auto" bind:value={p.kind} {onchange} aria-label="Compared with"
        >{#each kinds as [kind, says] (kind)}<option value={kind}>{says}</option>{/each}</select
      >
      {#if p.kind === 'attribute'}
        <input
          class="field mono w-32"
          list="attributes"
          bind:value={p.attribute}
          oninput={onchange}
          aria-label="Attribute"
          placeholder="districts"
        />
      {:else if p.kind === 'listed'}
        <input
          class="field mono w-52"
          bind:value={p.table}
          oninput={onchange}
          aria-label="Entitlement table"
          placeholder="field.district_officers"
        />
        <input
          class="field mono w-24"
          bind:value={p.key}
          oninput={onchange}
          aria-label="Its column"
          placeholder="district"
        />
        <span>by</span>
        <input
          class="field mono w-24"
          bind:value={p.holder}
          oninput={onchange}
          aria-label="Its user"
          placeholder="officer"
        />
      {/if}
      <button type="button" class="btn px-1.5 py-0" aria-label="Remove this condition" onclick={() => drop(i)}>×</button
      >
    </div>
  {/each}
  <button type="button" class="btn self-start py-0 text-sm" onclick={add}
    >{phrases.length ? 'Add a condition' : 'Add the first condition'}</button
  >
  <datalist id="attributes"
    >{#each attributes as a (a)}<option value={a}></option>{/each}</datalist
  >
</div>
