<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { untrack, type Snippet } from 'svelte'
  import { says, type Problem, type Subject } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
  import { subjects } from '../lib/subjects.svelte'
  import { windowed } from '../lib/windowed.svelte'
  import AddSubject from './AddSubject.svelte'
  import MemberDialog from './MemberDialog.svelte'
  import SideList from './SideList.svelte'
  import SubjectView from './SubjectView.svelte'
  import Trouble from './Trouble.svelte'

  // A list of subjects with the page of one: users, services and groups, or roles.
  let { title, base, kinds, overview }: { title: string; base: string; kinds: string[]; overview?: Snippet } = $props()
  let filter = $state('')
  let adding = $state(false)
  let several = $state(false)
  let marked = $state<string[]>([])
  let giving = $state(false)
  let problem = $state<Problem | null>(null)
  const ref = $derived(decodeURIComponent(place.path.slice(base.length + 1)))

  $effect(() => {
    void changes.count
    subjects
      .load()
      .then(() => (problem = null))
      .catch((error) => (problem = says(error)))
  })

  const shown = $derived(
    subjects.all.filter(
      (s) => kinds.includes(s.kind) && (s.name + ' ' + s.title).toLowerCase().includes(filter.toLowerCase()),
    ),
  )
  // By kind, under its heading; only what is in view is drawn.
  const lines = $derived(
    kinds.flatMap((kind): { key: string; subject?: Subject }[] => {
      const list = shown.filter((s) => s.kind === kind)
      const heading = list.length && kinds.length > 1 ? [{ key: `${kind}s` }] : []
      return [...heading, ...list.map((subject) => ({ key: subject.ref, subject }))]
    }),
  )
  let scroller = $state<HTMLElement | null>(null)
  const view = windowed(
    () => lines.length,
    () => scroller,
    43,
  )
  // The chosen one is in view when the page opens.
  let chosen = ''
  $effect(() => {
    const index = lines.findIndex((l) => l.key === ref)
    if (index < 0 || chosen === ref) return
    chosen = ref
    untrack(() => view.show(index))
  })
</script>

<div
  class="grid h-full grid-cols-[17.5rem_minmax(0,1fr)] max-[900px]:grid-cols-1 max-[900px]:grid-rows-[auto_minmax(0,1fr)]"
>
  <SideList label={title} chosen={ref}>
    <h1 class="px-3 pt-2 text-lg!">{title}</h1>
    <div class="flex flex-wrap gap-2 border-b border-line p-2">
      <input class="field" placeholder="filter" aria-label="Filter {title}" bind:value={filter} />
      {#if signed.session?.administrator}
        <button type="button" class="btn" onclick={() => (adding = true)}>Add</button>
        <button
          type="button"
          class="btn"
          aria-pressed={several}
          title="Mark several, to give them roles and groups together"
          onclick={() => ((several = !several), (marked = []))}>Select several</button
        >
      {/if}
    </div>
    <ul class="min-h-0 flex-1 overflow-y-auto p-1.5" bind:this={scroller}>
      {#if view.before}<li aria-hidden="true" style="height: {view.before}px"></li>{/if}
      {#each view.items as item (lines[item.index]!.key)}
        {@const line = lines[item.index]!}
        {#if line.subject}
          {@const s = line.subject}
          <li
            class={several ? 'grid grid-cols-[auto_minmax(0,1fr)] items-center' : ''}
            data-index={item.index}
            use:view.measured
          >
            {#if several}<input type="checkbox" aria-label="Mark {s.ref}" value={s.ref} bind:group={marked} />{/if}
            <a
              href={place.href(base + '/' + s.ref)}
              aria-current={s.ref === ref ? 'true' : undefined}
              class="block rounded px-2 py-1 {s.ref === ref ? 'bg-garnet-wash' : 'hover:bg-raised'}"
            >
              <span class="flex justify-between gap-2">
                <span class="mono {s.disabled ? 'line-through' : ''} {s.ref === ref ? 'font-semibold' : ''}"
                  >{s.name}</span
                >
                <span class="flex gap-1 text-xs">
                  {#if s.dormant}<span class="text-feldspar" title="{s.dormant} dormant grants">◇ {s.dormant}</span
                    >{/if}
                  {#if s.kind === 'role' || s.kind === 'group'}
                    <span class={s.holders ? 'text-muted' : 'text-garnet'} title="users and services that have it"
                      >{s.holders ? s.holders : '∅ no members'}</span
                    >
                  {/if}
                </span>
              </span>
              <span class="block truncate text-xs text-muted">{s.title || '\u00a0'}</span>
            </a>
          </li>
        {:else if line}
          <li class="px-2 pt-2 text-xs font-semibold text-muted" data-index={item.index} use:view.measured>
            {line.key}
          </li>
        {/if}
      {/each}
      {#if view.after}<li aria-hidden="true" style="height: {view.after}px"></li>{/if}
      {#if !shown.length}<li class="p-2 text-muted">{filter ? 'Nothing so named.' : 'None yet.'}</li>{/if}
    </ul>
    {#if several}
      <div class="flex items-center justify-between gap-2 border-t border-line p-2">
        <span class="text-sm text-muted">{marked.length} marked</span>
        <button type="button" class="btn btn-main" disabled={!marked.length} onclick={() => (giving = true)}
          >{kinds[0] === 'role' ? 'Add members …' : 'Add roles …'}</button
        >
      </div>
    {/if}
  </SideList>
  <div class="min-h-0 overflow-y-auto p-5" use:scrollable={'Details'}>
    {#if problem}
      <Trouble {problem} />
    {:else if ref}
      {#key ref}<SubjectView {ref} />{/key}
    {:else}
      <h1>{title}</h1>
      <p class="mt-1 mb-4 max-w-prose text-muted">
        Choose one on the left: what it holds, what it can do in each schema, and through what.
      </p>
      {@render overview?.()}
    {/if}
  </div>
</div>
{#if giving}
  {#if kinds[0] === 'role'}<MemberDialog bind:open={giving} of={marked} />
  {:else}<MemberDialog bind:open={giving} members={marked} kinds={['role', 'group']} />{/if}
{/if}
{#if adding}<AddSubject bind:open={adding} {kinds} {base} />{/if}
