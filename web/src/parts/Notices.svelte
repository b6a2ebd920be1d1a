<script lang="ts">
  import { changes } from '../lib/changes.svelte'
  import Effects from './Effects.svelte'
</script>

<div class="fixed right-4 bottom-4 z-50 flex w-[26rem] max-w-[92vw] flex-col gap-2" role="status" aria-live="polite">
  {#each changes.notices as notice, i (notice.id)}
    {@const newest = i === changes.notices.length - 1}
    <div class="panel p-3 shadow-lg {notice.problem ? 'border-garnet' : 'border-line-strong'}">
      <div class="flex items-start justify-between gap-3">
        <div>
          {#if notice.problem}
            <p class="font-medium text-garnet">⊘ {notice.problem.detail}</p>
          {:else if notice.changed}
            {#each notice.changed.says.slice(0, newest ? 6 : 1) as line, n (n)}<p
                class="font-medium first-letter:uppercase"
              >
                {line}.
              </p>{/each}
            {#if newest && notice.changed.says.length > 6}<p class="text-sm text-muted">
                and {notice.changed.says.length - 6} more
              </p>{/if}
            {#if newest && notice.changed.draft}<p class="text-xs text-muted">
                In the draft {notice.changed.draft}; it takes effect when that is published.
              </p>
            {:else if newest && notice.changed.revised}<p class="text-xs text-muted">
                Revision {notice.changed.revision}
              </p>{/if}
          {/if}
        </div>
        <button type="button" class="btn px-2 py-0" aria-label="Dismiss" onclick={() => changes.dismiss(notice.id)}
          >×</button
        >
      </div>
      {#if notice.changed && newest}<div class="mt-1"><Effects changed={notice.changed} none="" short /></div>{/if}
      {#if notice.undo}<button type="button" class="btn mt-2 py-0.5" onclick={() => changes.undo(notice)}>Undo</button
        >{/if}
    </div>
  {/each}
</div>
