<script lang="ts">
  import { api, get, type SubjectPage } from '../lib/api'
  import { place } from '../lib/place.svelte'
  import ChangeDialog from './ChangeDialog.svelte'

  let { open = $bindable(false), page }: { open: boolean; page: SubjectPage } = $props()
</script>

<ChangeDialog
  bind:open
  title="Remove {page.ref}"
  verb="Remove"
  asked={page.ref}
  none="Nobody else loses anything by it."
  send={(dry) =>
    get(api.DELETE('/api/v1/subjects/{name}', { params: { path: { name: page.ref }, query: { dry_run: dry } } }))}
  ondone={() => place.go(page.kind === 'role' ? '/roles' : '/subjects')}
>
  <p>
    It goes with {page.own.length}
    {page.own.length === 1 ? 'grant' : 'grants'} to it and {page.memberships.length + page.members.length} memberships; the
    record keeps its name. An undo brings it back with what it has, but not its password or tokens.
  </p>
</ChangeDialog>
