<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { Tabs } from 'bits-ui'
  import { api, get } from '../lib/api'
  import { loaded } from '../lib/load.svelte'
  import { place } from '../lib/place.svelte'
  import LabelColumns from '../parts/LabelColumns.svelte'
  import LabelList from '../parts/LabelList.svelte'
  import LabelSuggestions from '../parts/LabelSuggestions.svelte'
  import TabList from '../parts/TabList.svelte'
  import Trouble from '../parts/Trouble.svelte'

  // What data are about: labels, the columns that have them, and suggestions.
  const labels = loaded(() => get(api.GET('/api/v1/labels', {})))
  const tabs: [string, string][] = [
    ['list', 'Labels'],
    ['columns', 'Labelled columns'],
    ['suggestions', 'Suggestions'],
  ]
  const tab = $derived(place.path.split('/')[2] || 'list')
</script>

<div class="h-full overflow-y-auto p-5" use:scrollable={'Labels'}>
  <h1 class="mb-3">Labels</h1>
  {#if labels.problem}<Trouble problem={labels.problem} />{:else}
    <Tabs.Root value={tab} onValueChange={(value) => place.go('/labels/' + value)}>
      <TabList {tabs} />
      <Tabs.Content value="list"
        >{#if tab === 'list'}<LabelList labels={labels.value?.items ?? null} />{/if}</Tabs.Content
      >
      <Tabs.Content value="columns"
        >{#if tab === 'columns'}<LabelColumns labels={labels.value?.items ?? []} />{/if}</Tabs.Content
      >
      <Tabs.Content value="suggestions"
        >{#if tab === 'suggestions'}<LabelSuggestions />{/if}</Tabs.Content
      >
    </Tabs.Root>
  {/if}
</div>
