<script lang="ts">
  import SubjectDirectory from '../parts/SubjectDirectory.svelte'
</script>

<SubjectDirectory title="Subjects" base="/subjects" kinds={['user', 'service', 'group']} />
