<script lang="ts">
  import type { Component } from 'svelte'
  import { says } from './lib/api'
  import { changes } from './lib/changes.svelte'
  import { listen } from './lib/live.svelte'
  import { follow, place } from './lib/place.svelte'
  import { signed } from './lib/session.svelte'
  import { vocabulary } from './lib/vocabulary.svelte'
  import AccountMenu from './parts/AccountMenu.svelte'
  import KeyHelp from './parts/KeyHelp.svelte'
  import Notices from './parts/Notices.svelte'
  import Search from './parts/Search.svelte'
  import StandpointBar from './parts/StandpointBar.svelte'
  import Trouble from './parts/Trouble.svelte'
  import SignIn from './pages/SignIn.svelte'

  interface Page {
    at: string
    name: string
    key: string
    load: () => Promise<{ default: Component }>
  }
  const groups: { name: string; pages: Page[] }[] = [
    {
      name: '',
      pages: [{ at: '/overview', name: 'Overview', key: 'o', load: () => import('./pages/Overview.svelte') }],
    },
    {
      name: 'Data',
      pages: [
        { at: '/tables', name: 'Tables', key: 't', load: () => import('./pages/Tables.svelte') },
        { at: '/labels', name: 'Labels', key: 'l', load: () => import('./pages/Labels.svelte') },
        { at: '/query', name: 'Query', key: 'q', load: () => import('./pages/Query.svelte') },
      ],
    },
    {
      name: 'People',
      pages: [
        { at: '/subjects', name: 'Subjects', key: 's', load: () => import('./pages/Subjects.svelte') },
        { at: '/roles', name: 'Roles', key: 'r', load: () => import('./pages/Roles.svelte') },
      ],
    },
    {
      name: 'Access',
      pages: [
        { at: '/access', name: 'Access', key: 'm', load: () => import('./pages/Access.svelte') },
        { at: '/policies', name: 'Policies', key: 'p', load: () => import('./pages/Policies.svelte') },
        { at: '/use', name: 'Use', key: 'w', load: () => import('./pages/Use.svelte') },
        { at: '/compare', name: 'Compare', key: 'c', load: () => import('./pages/Compare.svelte') },
      ],
    },
    {
      name: 'Changes',
      pages: [
        { at: '/drafts', name: 'Drafts', key: 'd', load: () => import('./pages/Drafts.svelte') },
        { at: '/checks', name: 'Checks', key: 'k', load: () => import('./pages/Checks.svelte') },
        { at: '/requests', name: 'Requests', key: 'u', load: () => import('./pages/Requests.svelte') },
        { at: '/history', name: 'History', key: 'h', load: () => import('./pages/History.svelte') },
      ],
    },
    {
      name: 'Proof',
      pages: [
        { at: '/reviews', name: 'Reviews', key: 'v', load: () => import('./pages/Reviews.svelte') },
        { at: '/audit', name: 'Audit', key: 'a', load: () => import('./pages/Audit.svelte') },
      ],
    },
    {
      name: '',
      pages: [{ at: '/settings', name: 'Settings', key: 'g', load: () => import('./pages/Settings.svelte') }],
    },
  ]
  const pages = groups.flatMap((g) => g.pages)
  const page = $derived(pages.find((p) => place.path === p.at || place.path.startsWith(p.at + '/')) ?? pages[0]!)
  let searching = $state(false)
  let helping = $state(false)
  let main = $state<HTMLElement>()

  $effect(() => void signed.load())
  $effect(() => {
    if (!signed.session) return
    vocabulary.load().catch((error) => changes.failed(error))
    return listen()
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
  <a class="sr-only focus:not-sr-only" href="#main" onclick={(e) => (e.preventDefault(), main?.focus())}
    >Skip to the page</a
  >
  <div
    class="grid h-screen grid-cols-[9rem_minmax(0,1fr)] grid-rows-[auto_minmax(0,1fr)] max-[900px]:grid-cols-1 max-[900px]:grid-rows-[auto_auto_minmax(0,1fr)]"
    class:elsewhere={place.elsewhere}
    class:drafting={!!place.moment.draft}
    class:past={!!place.moment.at}
  >
    <nav class="pages" aria-label="Pages">
      <a href={place.href('/overview')} class="flex items-center gap-2 px-3 py-3 font-semibold tracking-tight">
        <img src="/gneiss.svg" alt="" width="22" height="22" />Gneiss
      </a>
      <div class="min-h-0 flex-1 overflow-y-auto max-[900px]:flex max-[900px]:flex-wrap">
        {#each groups as g, i (i)}
          <div class="mb-2 max-[900px]:mb-0 max-[900px]:flex" role="group" aria-label={g.name || g.pages[0]!.name}>
            {#if g.name}<p class="px-3 pb-0.5 text-xs text-muted max-[900px]:hidden" aria-hidden="true">
                {g.name}
              </p>{/if}
            {#each g.pages as p (p.at)}
              <a
                href={place.href(p.at)}
                aria-current={p === page ? 'page' : undefined}
                class="block border-l-[3px] px-3 py-1 {p === page
                  ? 'border-garnet bg-raised font-semibold'
                  : 'border-transparent hover:bg-raised'}">{p.name}</a
              >
            {/each}
          </div>
        {/each}
      </div>
      <div class="flex flex-col gap-1 p-2 text-sm max-[900px]:flex-row">
        <button type="button" class="btn justify-between" onclick={() => (searching = true)}
          >Search <kbd class="mono text-muted">/</kbd></button
        >
        <AccountMenu onkeys={() => (helping = true)} />
      </div>
    </nav>
    <StandpointBar />
    <main bind:this={main} id="main" class="min-h-0 overflow-hidden outline-none" tabindex="-1">
      {#await page.load() then module}
        <svelte:boundary>
          <module.default />
          {#snippet failed(error, reset)}
            <div class="p-5">
              <Trouble problem={says(error)} />
              <button type="button" class="btn mt-3" onclick={reset}>Show the page again</button>
            </div>
          {/snippet}
        </svelte:boundary>
      {:catch}
        <div class="p-5">
          <p class="font-medium">This page can't be loaded. The service may have been updated.</p>
          <button type="button" class="btn btn-main mt-3" onclick={() => location.reload()}
            >Load the console again</button
          >
        </div>
      {/await}
    </main>
  </div>
  <Search bind:open={searching} />
  <KeyHelp bind:open={helping} pages={pages.map((p) => [p.key, p.name] as [string, string])} />
{/if}
<Notices />

<style>
  .drafting {
    box-shadow: inset 0 0 0 4px var(--epidote);
    padding: 4px;
  }
  .past {
    box-shadow: inset 0 0 0 4px var(--line-strong);
    padding: 4px;
  }
  .elsewhere {
    box-shadow: inset 0 0 0 4px var(--feldspar);
    padding: 4px;
  }
</style>
