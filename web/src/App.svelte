<script lang="ts">
  import { changes } from './lib/changes.svelte'
  import { follow, place } from './lib/place.svelte'
  import { signed } from './lib/session.svelte'
  import { vocabulary } from './lib/vocabulary.svelte'
  import KeyHelp from './parts/KeyHelp.svelte'
  import Notices from './parts/Notices.svelte'
  import Search from './parts/Search.svelte'
  import StandpointBar from './parts/StandpointBar.svelte'
  import SignIn from './pages/SignIn.svelte'

  const pages = [
    { at: '/overview', name: 'Overview', key: 'o', load: () => import('./pages/Overview.svelte') },
    { at: '/tables', name: 'Tables', key: 't', load: () => import('./pages/Tables.svelte') },
    { at: '/subjects', name: 'Subjects', key: 's', load: () => import('./pages/Subjects.svelte') },
    { at: '/roles', name: 'Roles', key: 'r', load: () => import('./pages/Roles.svelte') },
    { at: '/policies', name: 'Policies', key: 'p', load: () => import('./pages/Policies.svelte') },
    { at: '/labels', name: 'Labels', key: 'l', load: () => import('./pages/Labels.svelte') },
    { at: '/compare', name: 'Compare', key: 'c', load: () => import('./pages/Compare.svelte') },
    { at: '/query', name: 'Query', key: 'q', load: () => import('./pages/Query.svelte') },
    { at: '/audit', name: 'Audit', key: 'a', load: () => import('./pages/Audit.svelte') },
    { at: '/settings', name: 'Settings', key: 'g', load: () => import('./pages/Settings.svelte') },
  ]
  const page = $derived(pages.find((p) => place.path === p.at || place.path.startsWith(p.at + '/')) ?? pages[0]!)
  let searching = $state(false)
  let helping = $state(false)
  let main = $state<HTMLElement>()

  $effect(() => void signed.load())
  $effect(() => {
    if (signed.session) vocabulary.load().catch((error) => changes.failed(error))
  })
  $effect(() => {
    document.title = `${page.name} · Gneiss`
  })

  function key(event: KeyboardEvent) {
    const typing = (event.target as Element).closest('input, textarea, select, [contenteditable=true], [role=dialog]')
    if (typing || event.metaKey || event.ctrlKey || event.altKey || !signed.session) return
    const target = pages.find((p) => p.key === event.key)
    if (event.key === '/') searching = true
    else if (event.key === '?') helping = true
    else if (event.key === 'x') place.stepBack()
    else if (target) place.go(target.at)
    else return
    event.preventDefault()
  }
</script>

<svelte:window onkeydown={key} onclick={follow} />

{#if !signed.known}
  <p class="p-8 text-muted" aria-busy="true">Loading …</p>
{:else if !signed.session}
  <SignIn />
{:else}
  <a class="sr-only focus:not-sr-only" href="#main" onclick={(e) => (e.preventDefault(), main?.focus())}>To the page</a>
  <div
    class="grid h-screen grid-cols-[8.5rem_minmax(0,1fr)] grid-rows-[auto_minmax(0,1fr)]"
    class:elsewhere={place.elsewhere}
  >
    <nav class="row-span-2 flex flex-col border-r border-line bg-surface" aria-label="Pages">
      <a href={place.href('/overview')} class="flex items-center gap-2 px-3 py-3 font-semibold tracking-tight">
        <img src="/gneiss.svg" alt="" width="22" height="22" />Gneiss
      </a>
      {#each pages as p (p.at)}
        <a
          href={place.href(p.at)}
          aria-current={p === page ? 'page' : undefined}
          class="border-l-[3px] px-3 py-1.5 {p === page
            ? 'border-garnet bg-raised font-semibold'
            : 'border-transparent hover:bg-raised'}">{p.name}</a
        >
      {/each}
      <div class="mt-auto flex flex-col gap-1 p-3 text-sm">
        <button class="btn justify-between" onclick={() => (searching = true)}
          >Search <kbd class="mono text-muted">/</kbd></button
        >
        <button class="btn justify-between" onclick={() => (helping = true)}
          >Keys <kbd class="mono text-muted">?</kbd></button
        >
        <button class="btn" onclick={() => signed.signOut()}>Sign out</button>
        <span class="truncate text-xs text-muted" title={signed.session.title}>{signed.session.user}</span>
      </div>
    </nav>
    <StandpointBar />
    <main bind:this={main} class="min-h-0 overflow-hidden outline-none" tabindex="-1">
      {#await page.load() then module}
        <module.default />
      {/await}
    </main>
  </div>
  <Search bind:open={searching} />
  <KeyHelp bind:open={helping} pages={pages.map((p) => [p.key, p.name] as [string, string])} />
{/if}
<Notices />

<style>
  .elsewhere {
    box-shadow: inset 0 0 0 4px var(--feldspar);
    padding: 4px;
  }
</style>
