<script lang="ts">
  import { subjects } from '../lib/subjects.svelte'
  import RoleGraph from '../parts/RoleGraph.svelte'
  import SubjectDirectory from '../parts/SubjectDirectory.svelte'
</script>

<SubjectDirectory title="Roles" base="/roles" kinds={['role']}>
  {#snippet overview()}<RoleGraph all={subjects.all} />{/snippet}
</SubjectDirectory>
