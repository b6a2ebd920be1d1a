<script lang="ts">
  import { api, get, type SubjectPage } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import ChangeDialog from './ChangeDialog.svelte'
  import SubjectPicker from './SubjectPicker.svelte'

  // What a subject is: name, title, lead, attributes, password.
  let { open = $bindable(false), page: now }: { open: boolean; page: SubjectPage } = $props()
  // As it was when the form was opened: what others change meanwhile is not undone by saving.
  /* svelte-ignore state_referenced_locally */
  const page = $state.snapshot(now) as SubjectPage
  const acts = $derived(page.kind === 'user' || page.kind === 'service')
  /* svelte-ignore state_referenced_locally */
  let name = $state(page.name)
  /* svelte-ignore state_referenced_locally */
  let title = $state(page.title)
  /* svelte-ignore state_referenced_locally */
  let lead = $state(page.lead ?? '')
  let password = $state('')
  /* svelte-ignore state_referenced_locally */
  let attributes = $state(
    Object.entries(page.attributes).map(([name, values]) => ({ name, values: values.join(', ') })),
  )

  const values = (text: string) =>
    text
      .split(',')
      .map((v) => v.trim())
      .filter(Boolean)

  // Only what differs is sent; an attribute that is gone is sent without values.
  const body = $derived.by(() => {
    const changed: Record<string, string[]> = {}
    for (const a of attributes) {
      const now = values(a.values)
      if (a.name && now.join() !== (page.attributes[a.name] ?? []).join()) changed[a.name] = now
    }
    for (const name of Object.keys(page.attributes)) if (!attributes.some((a) => a.name === name)) changed[name] = []
    return {
      subject: page.ref,
      title: title !== page.title ? title : undefined,
      lead: lead !== (page.lead ?? '') ? lead : undefined,
      rename: name !== page.name ? name : undefined,
      attributes: Object.keys(changed).length ? changed : undefined,
      password: password || undefined,
    }
  })
  // What this form would change and somebody else has changed since it was opened: it is not overwritten.
  const moved = $derived([
    ...(body.title !== undefined && now.title !== page.title ? ['the title'] : []),
    ...(body.lead !== undefined && now.lead !== page.lead ? ['the lead'] : []),
    ...Object.keys(body.attributes ?? {}).filter(
      (n) => (now.attributes[n] ?? []).join() !== (page.attributes[n] ?? []).join(),
    ),
  ])
  const ready = $derived(!moved.length && Object.values(body).filter((v) => v !== undefined).length > 1)

  const patch = (ref: string, body: object, dry: boolean) =>
    get(
      api.PATCH('/api/v1/subjects/{ref}', {
        params: { path: { ref } },
        body: { subject: ref, ...body, dry_run: dry || undefined },
      }),
    )
  function undo() {
    const b = $state.snapshot(body)
    const before = Object.fromEntries(Object.keys(b.attributes ?? {}).map((n) => [n, page.attributes[n] ?? []]))
    return () =>
      patch(
        `${page.kind}:${b.rename ?? page.name}`,
        {
          title: b.title === undefined ? undefined : page.title,
          lead: b.lead === undefined ? undefined : (page.lead ?? ''),
          rename: b.rename ? page.name : undefined,
          attributes: b.attributes ? before : undefined,
        },
        false,
      )
  }
  function done() {
    if (body.rename)
      place.go(`${page.kind === 'role' ? '/roles' : '/subjects'}/${page.kind}:${body.rename.toLowerCase()}`)
  }
</script>

<ChangeDialog
  bind:open
  title="Edit {page.ref}"
  verb="Save"
  asked={JSON.stringify(body)}
  {ready}
  send={(dry) => patch(page.ref, $state.snapshot(body), dry)}
  undo={password ? undefined : undo}
  ondone={done}
>
  {#if moved.length}<p class="text-garnet" role="alert">
      ⊘ Somebody has changed {moved.join(' and ')} since you opened this. Close it, and open it again.
    </p>{/if}
  <div class="grid grid-cols-2 gap-3">
    <label class="text-sm text-muted"
      >Name <input class="field mono text-ink" bind:value={name} name="rename" required /></label
    >
    <label class="text-sm text-muted">Title <input class="field text-ink" bind:value={title} name="title" /></label>
  </div>
  {#if page.kind === 'user'}
    <div>
      <p class="text-sm text-muted">Reports to</p>
      <div class="flex gap-2">
        <SubjectPicker bind:value={lead} kinds={['user']} label="Lead" placeholder="nobody" />
        {#if lead}<button type="button" class="btn" onclick={() => (lead = '')}>Nobody</button>{/if}
      </div>
    </div>
  {/if}
  {#if acts}
    <fieldset>
      <legend class="text-sm text-muted">Attributes: a name, and values between commas</legend>
      {#each attributes as a, i (i)}
        <div class="mt-1 flex gap-2">
          <input class="field mono max-w-40" aria-label="Attribute" bind:value={a.name} placeholder="districts" />
          <input class="field" aria-label="Values of {a.name}" bind:value={a.values} placeholder="north, coast" />
          <button
            type="button"
            class="btn px-2"
            aria-label="Remove {a.name}"
            onclick={() => (attributes = attributes.filter((x) => x !== a))}>×</button
          >
        </div>
      {/each}
      <button type="button" class="btn mt-1" onclick={() => (attributes = [...attributes, { name: '', values: '' }])}
        >Add an attribute</button
      >
    </fieldset>
    <label class="text-sm text-muted"
      >New password <input
        class="field text-ink"
        type="password"
        bind:value={password}
        autocomplete="new-password"
        placeholder="stays as it is"
      /></label
    >
  {/if}
</ChangeDialog>
