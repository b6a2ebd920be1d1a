<script lang="ts">
  import { api, get } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { place } from '../lib/place.svelte'
  import { named, recent } from '../lib/recent.svelte'
  import { signed } from '../lib/session.svelte'
  import { subjects } from '../lib/subjects.svelte'
  import MomentPicker from './MomentPicker.svelte'
  import SubjectPicker from './SubjectPicker.svelte'

  // As whom the whole console is viewed, and who it is compared with.
  let purpose = $state('')
  // SET ROLE narrows the session itself, whatever the address says.
  const narrowed = $derived(signed.session?.role)

  async function widen() {
    try {
      await get(api.POST('/api/v1/queries', { body: { sql: 'SET ROLE NONE' } }))
      await signed.load()
      changes.count++
    } catch (error) {
      changes.failed(error)
    }
  }
  const title = $derived(subjects.all.find((s) => s.ref === place.at.as)?.title ?? '')
  $effect(() => recent.add(place.at))
  $effect(() => {
    purpose = place.at.purpose ?? ''
  })
</script>

<header
  class="flex flex-wrap items-center gap-x-2 gap-y-1 border-b border-line px-4 py-1.5 {place.moment.draft
    ? 'bg-epidote-wash'
    : place.elsewhere
      ? 'bg-feldspar-wash'
      : 'bg-surface'}"
  aria-label="View"
>
  <span class="text-muted">Viewing as</span>
  {#if signed.session?.administrator}
    <div class="w-44">
      {#key place.at.as}
        <SubjectPicker
          label="View as"
          value={place.at.as ?? ''}
          placeholder={`yourself (${signed.session.user})`}
          onpick={(ref) => place.look({ as: ref === signed.session?.user ? '' : ref, role: '' })}
        />
      {/key}
    </div>
  {:else}
    <span class="mono">{signed.session?.user}</span>
  {/if}
  <span class="text-muted">role</span>
  <div class="w-28">
    {#key place.at.role}
      <SubjectPicker
        label="Role"
        kinds={['role']}
        value={place.at.role ?? ''}
        placeholder="all roles"
        onpick={(ref) => place.look({ role: ref })}
      />
    {/key}
  </div>
  <span class="text-muted">purpose</span>
  <input
    class="field mono w-28"
    aria-label="Purpose"
    placeholder="any purpose"
    bind:value={purpose}
    onchange={() => place.look({ purpose })}
  />
  {#if signed.session?.administrator}
    <span class="text-muted">compare with</span>
    <div class="w-40">
      {#key place.beside}
        <SubjectPicker
          label="Compare with"
          value={place.beside}
          placeholder="nobody"
          onpick={(ref) => place.look({ beside: ref })}
        />
      {/key}
    </div>
  {/if}
  {#if title}<span class="text-sm text-muted">{title}</span>{/if}
  {#if recent.list.length && signed.session?.administrator}
    <select
      class="field w-auto max-w-40"
      aria-label="Recent views"
      value=""
      onchange={(e) => {
        const at = recent.list[Number(e.currentTarget.value)]
        e.currentTarget.value = ''
        if (at) place.look({ as: at.as ?? '', role: at.role ?? '', purpose: at.purpose ?? '' })
      }}
    >
      <option value="" disabled>recent</option>
      {#each recent.list as at, i (i)}<option value={String(i)}>{named(at)}</option>{/each}
    </select>
  {/if}
  {#if narrowed}
    <span class="chip" title="by SET ROLE, in this session">acting in {narrowed}</span>
    <button type="button" class="btn py-0.5" onclick={widen}>All roles</button>
  {/if}
  {#if signed.session?.reviewer}<MomentPicker />{/if}
  {#if place.elsewhere || place.beside || place.moment.draft || place.moment.at}
    <button type="button" class="btn btn-main py-0.5" onclick={() => place.stepBack()}
      >{place.elsewhere || place.beside ? 'Back to yourself' : 'Back to now'} <kbd class="mono">x</kbd></button
    >
  {/if}
</header>
