<script lang="ts">
  import { type Problem } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import FixButton from './FixButton.svelte'

  // A refusal or failure: what happened, what to do, and the fixes one click away.
  let { problem, onfixed }: { problem: Problem; onfixed?: () => void } = $props()
</script>

<div class="rounded border border-garnet bg-garnet-wash px-3 py-2" role="alert">
  <p class="font-medium whitespace-pre-wrap"><span aria-hidden="true">⊘</span> {problem.detail}</p>
  {#if problem.missing?.length}
    <p class="mt-1">
      Missing: {#each problem.missing as m (m)}<span class="chip mr-1">{m}</span>{/each}
    </p>
  {/if}
  {#if problem.fixes?.length}
    <p class="mt-2 text-sm text-muted">Ways to give it, smallest first:</p>
    <ul class="mt-1 flex flex-col gap-1">
      {#each problem.fixes as fix (fix.says)}
        <li><FixButton {fix} {onfixed} /></li>
      {/each}
    </ul>
  {/if}
  {#if problem.reference}
    <p class="mt-1 text-xs text-muted">
      On record as <a class="underline" href={place.href('/audit', { record: problem.reference })}
        >{problem.reference}</a
      >
    </p>
  {/if}
</div>
