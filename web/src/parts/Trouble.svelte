<script lang="ts">
  import { type Problem } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import AskForm from './AskForm.svelte'
  import FixButton from './FixButton.svelte'

  // A refusal or failure: what happened, what to do, and the fixes one click away. Who can only be given
  // what is missing may ask for it.
  let { problem, onfixed, asks = true }: { problem: Problem; onfixed?: () => void; asks?: boolean } = $props()
  let asking = $state(false)
  const lacks = $derived(
    asks && !!problem.reference && !problem.fixes?.length && (problem.status === 403 || problem.status === 404),
  )
</script>

<div class="rounded border border-garnet bg-garnet-wash px-3 py-2" role="alert">
  <p class="font-medium whitespace-pre-wrap"><span aria-hidden="true">⊘</span> {problem.detail}</p>
  {#if problem.missing?.length}
    <p class="mt-1">
      Missing: {#each problem.missing as m, i (i)}<span class="chip mr-1">{m}</span>{/each}
    </p>
  {/if}
  {#if problem.fixes?.length}
    <p class="mt-2 text-sm text-muted">Ways to give it, smallest first:</p>
    <ul class="mt-1 flex flex-col gap-1">
      {#each problem.fixes as fix, i (i)}
        <li><FixButton {fix} {onfixed} /></li>
      {/each}
    </ul>
  {/if}
  {#if problem.reference}
    <p class="mt-1 text-xs text-muted">
      On record as <a class="underline" href={place.href('/audit', { record: problem.reference })}
        >{problem.reference}</a
      >
      {#if lacks && !asking}<button type="button" class="btn ml-2 py-0 text-sm" onclick={() => (asking = true)}
          >Ask for it</button
        >{/if}
    </p>
  {/if}
  {#if lacks && asking}<div class="mt-2"><AskForm reference={problem.reference} /></div>{/if}
</div>
