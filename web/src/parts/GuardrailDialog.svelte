<script lang="ts">
  import { api, get, type Schemas } from '../lib/api'
  import ChangeDialog from './ChangeDialog.svelte'

  // A guardrail as a sentence: what it is about, with what there is to fill in.
  type Guardrail = Schemas['WireGuardrail']
  let { open = $bindable(false), editing }: { open: boolean; editing: Guardrail | null } = $props()
  const kinds: [Guardrail['kind'], string][] = [
    ['clear', 'Nobody but some sees something in clear'],
    ['treated', 'What has a label is treated for everyone'],
    ['apart', 'Nobody holds both of two roles'],
    ['to-public', 'Nothing is granted to PUBLIC'],
    ['to-users', 'Nothing is granted straight to a user or service'],
    ['without-end', 'Nothing is granted without an end'],
    ['whole-source', 'Nothing but USAGE is granted on a whole source'],
    ['administrators', 'There are only so many administrators'],
    ['owned', 'Every table has an owner'],
    ['second-person', 'Changes are published by a second person'],
  ]
  /* svelte-ignore state_referenced_locally */
  let g = $state<Guardrail>(
    editing
      ? { ...editing, sentence: undefined }
      : { name: '', kind: 'clear', mode: 'warn', object: '', except: [], roles: [], most: undefined },
  )
  const words = (text: string) => text.split(/[\s,]+/).filter(Boolean)
  const body = $derived({
    name: g.name,
    kind: g.kind,
    mode: g.mode,
    comment: g.comment || undefined,
    object: g.object || undefined,
    except: g.kind === 'clear' ? g.except : undefined,
    roles: g.kind === 'apart' ? g.roles : undefined,
    most: g.kind === 'administrators' ? g.most : undefined,
    replace: editing !== null,
  })
</script>

<ChangeDialog
  bind:open
  title={editing ? `Change the guardrail ${editing.name}` : 'Add a guardrail'}
  verb={editing ? 'Change' : 'Add'}
  asked={JSON.stringify(body)}
  ready={!!g.name}
  none="Nobody’s access changes by it."
  sentence
  send={(dry) => get(api.POST('/api/v1/guardrails', { body: { ...body, dry_run: dry } }))}
>
  <div class="grid grid-cols-2 gap-3">
    <label class="text-sm text-muted"
      >Name <input
        class="field mono text-ink"
        name="name"
        bind:value={g.name}
        disabled={!!editing}
        placeholder="finance-in-office"
      /></label
    >
    <label class="text-sm text-muted"
      >A change that would break it <select class="field text-ink" bind:value={g.mode}
        ><option value="warn">is said</option><option value="block">is refused</option></select
      ></label
    >
  </div>
  <label class="text-sm text-muted"
    >It states <select class="field text-ink" aria-label="Kind" bind:value={g.kind}
      >{#each kinds as [kind, says] (kind)}<option value={kind}>{says}</option>{/each}</select
    ></label
  >
  {#if g.kind === 'apart'}
    <label class="text-sm text-muted"
      >The two roles <input
        class="field mono text-ink"
        value={g.roles?.join(' ')}
        onchange={(e) => (g.roles = words(e.currentTarget.value))}
        placeholder="role:partner role:licensing_officer"
      /></label
    >
  {:else if g.kind === 'administrators'}
    <label class="text-sm text-muted"
      >At most <input class="field text-ink" type="number" min="1" bind:value={g.most} /></label
    >
  {:else}
    <label class="text-sm text-muted"
      >{g.kind === 'clear' ? 'What: a label, a table or a column' : g.kind === 'treated' ? 'Which label' : 'Where'}
      <input
        class="field mono text-ink"
        name="object"
        bind:value={g.object}
        placeholder={g.kind === 'clear' || g.kind === 'treated' ? 'label:finance' : 'everywhere'}
      /></label
    >
  {/if}
  {#if g.kind === 'clear'}
    <label class="text-sm text-muted"
      >Nobody but <input
        class="field mono text-ink"
        name="except"
        value={g.except?.join(' ')}
        onchange={(e) => (g.except = words(e.currentTarget.value))}
        placeholder="role:licensing_officer role:administrator"
      /></label
    >
  {/if}
  <label class="text-sm text-muted"
    >Why <input class="field text-ink" bind:value={g.comment} placeholder="a few words for people" /></label
  >
</ChangeDialog>
