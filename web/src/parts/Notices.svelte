<script lang="ts">
  import { changes } from '../lib/changes.svelte'
  import Effects from './Effects.svelte'
</script>

<div class="fixed right-4 bottom-4 z-50 flex w-[26rem] max-w-[92vw] flex-col gap-2" role="status" aria-live="polite">
  {#each changes.notices as notice (notice.id)}
    <div class="panel p-3 shadow-lg {notice.problem ? 'border-garnet' : 'border-line-strong'}">
      <div class="flex items-start justify-between gap-3">
        <div>
          {#if notice.problem}
            <p class="font-medium text-garnet">⊘ {notice.problem.detail}</p>
          {:else if notice.changed}
            {#each notice.changed.says as line (line)}<p class="font-medium first-letter:uppercase">{line}.</p>{/each}
            <p class="text-xs text-muted">Revision {notice.changed.revision}</p>
          {/if}
        </div>
        <button class="btn px-2 py-0" aria-label="Dismiss" onclick={() => changes.dismiss(notice.id)}>×</button>
      </div>
      {#if notice.changed}<div class="mt-1"><Effects changed={notice.changed} none="" short /></div>{/if}
      {#if notice.undo}<button class="btn mt-2 py-0.5" onclick={() => changes.undo(notice)}>Undo</button>{/if}
    </div>
  {/each}
</div>
