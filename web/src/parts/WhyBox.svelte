<script lang="ts">
  import { api, get, objectsNamed, says, type Problem, type Schemas } from '../lib/api'
  import { changes } from '../lib/changes.svelte'
  import { vocabulary } from '../lib/vocabulary.svelte'
  import BandGlyph from './BandGlyph.svelte'
  import FixButton from './FixButton.svelte'
  import Trouble from './Trouble.svelte'

  let { subject, object = '' }: { subject: string; object?: string } = $props()
  /* svelte-ignore state_referenced_locally */
  let path = $state(object)
  let privilege = $state('SELECT')
  let why = $state<Schemas['WireWhy'] | null>(null)
  let problem = $state<Problem | null>(null)
  let known = $state<string[]>([])

  $effect(() => {
    const text = path
    objectsNamed(text)
      .then((found) => (known = found.map((f) => f.name)))
      .catch(() => (known = []))
  })

  // An answer stands only under its own question, and as long as what it was given of.
  const question = $derived(JSON.stringify([subject, privilege, path, changes.count]))
  $effect(() => {
    void question
    why = problem = null
  })
  async function ask(event?: SubmitEvent) {
    event?.preventDefault()
    const asked = question
    try {
      const answer = await get(api.GET('/api/v1/why', { params: { query: { subject, privilege, object: path } } }))
      if (asked === question) why = answer
    } catch (error) {
      if (asked === question) problem = says(error)
    }
  }
</script>

<form class="mb-3 flex flex-wrap items-center gap-2" onsubmit={ask}>
  <span>May <b class="mono">{subject}</b></span>
  <select class="field mono w-auto" bind:value={privilege} aria-label="Privilege">
    {#each ['SELECT', ...vocabulary.privileges.filter((p) => p !== 'SELECT')] as p (p)}<option>{p}</option>{/each}
  </select>
  <span>on</span>
  <input
    class="field mono w-80"
    list="known"
    bind:value={path}
    aria-label="Object"
    placeholder="survey.assay.results"
    required
  />
  <datalist id="known"
    >{#each known as k (k)}<option value={k}></option>{/each}</datalist
  >
  <button type="submit" class="btn btn-main">Why?</button>
</form>
{#if problem}<Trouble {problem} />{/if}
{#if why}
  <section class="panel p-3" aria-live="polite" aria-label="Answer">
    <p class="flex items-start gap-2 font-medium">
      <span class={why.allowed ? 'text-epidote' : 'text-garnet'}>{why.allowed ? '● yes' : '⊘ no'}</span><BandGlyph
        bands={why.bands}
      /><span>{why.says}.</span>
    </p>
    {#each why.paths as p, i (i)}<p class="mono mt-1 pl-4">{p.says}</p>{/each}
    {#each why.policies as p, i (i)}<p class="mt-1 pl-4 text-sm">{p}</p>{/each}
    {#if why.fixes.length}
      <p class="mt-3 text-sm text-muted">Ways to give it, smallest first</p>
      <ul class="mt-1 flex flex-col gap-1">
        {#each why.fixes as fix, i (i)}
          <li><FixButton {fix} onfixed={ask} /></li>
        {/each}
      </ul>
    {/if}
  </section>
{/if}
