<script lang="ts">
  import SubjectDirectory from '../parts/SubjectDirectory.svelte'
</script>

<SubjectDirectory title="Roles" base="/roles" kinds={['role']} />
