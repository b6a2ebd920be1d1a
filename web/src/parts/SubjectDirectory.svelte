<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import type { Snippet } from 'svelte'
  import { says, type Problem } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
  import { subjects } from '../lib/subjects.svelte'
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
</script>

<div
  class="grid h-full grid-cols-[17.5rem_minmax(0,1fr)] max-[900px]:grid-cols-1 max-[900px]:grid-rows-[auto_minmax(0,1fr)]"
>
  <SideList label={title} chosen={ref}>
    <h1 class="px-3 pt-2 text-lg!">{title}</h1>
    <div class="flex flex-wrap gap-2 border-b border-line p-2">
      <input class="field" placeholder="filter" aria-label="Filter {title}" bind:value={filter} />
      {#if signed.session?.administrator}
        <button class="btn" onclick={() => (adding = true)}>Add</button>
        <button
          class="btn"
          aria-pressed={several}
          title="Mark several, to give them roles and groups together"
          onclick={() => ((several = !several), (marked = []))}>Select several</button
        >
      {/if}
    </div>
    <ul class="min-h-0 flex-1 overflow-y-auto p-1.5">
      {#each kinds as kind (kind)}
        {@const list = shown.filter((s) => s.kind === kind)}
        {#if list.length}
          {#if kinds.length > 1}<li class="px-2 pt-2 text-xs font-semibold text-muted">{kind}s</li>{/if}
          {#each list as s (s.ref)}
            <li class={several ? 'grid grid-cols-[auto_minmax(0,1fr)] items-center' : ''}>
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
                    {#if kind === 'role' || kind === 'group'}
                      <span class={s.holders ? 'text-muted' : 'text-garnet'} title="users and services that have it"
                        >{s.holders ? s.holders : '∅ no members'}</span
                      >
                    {/if}
                  </span>
                </span>
                <span class="block truncate text-xs text-muted">{s.title || '\u00a0'}</span>
              </a>
            </li>
          {/each}
        {/if}
      {:else}
        <li class="p-2 text-muted">None.</li>
      {/each}
      {#if !shown.length}<li class="p-2 text-muted">{filter ? 'Nothing so named.' : 'None yet.'}</li>{/if}
    </ul>
    {#if several}
      <div class="flex items-center justify-between gap-2 border-t border-line p-2">
        <span class="text-sm text-muted">{marked.length} marked</span>
        <button class="btn btn-main" disabled={!marked.length} onclick={() => (giving = true)}
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
