<script lang="ts">
  import { scrollable } from '../lib/scrollable'
  import { Tabs } from 'bits-ui'
  import { place } from '../lib/place.svelte'
  import { signed } from '../lib/session.svelte'
  import AccountSettings from '../parts/AccountSettings.svelte'
  import ConnectionSettings from '../parts/ConnectionSettings.svelte'
  import BundleSettings from '../parts/BundleSettings.svelte'
  import LaneSettings from '../parts/LaneSettings.svelte'
  import RosterSettings from '../parts/RosterSettings.svelte'
  import SourceSettings from '../parts/SourceSettings.svelte'
  import TabList from '../parts/TabList.svelte'
  import WebhookSettings from '../parts/WebhookSettings.svelte'

  const tabs = $derived<[string, string][]>([
    ['account', 'Your account'],
    ['connections', 'Connections'],
    ['lanes', 'Lanes'],
    ['bundles', 'Bundles'],
    ['sources', 'Sources'],
    ...(signed.session?.administrator ? ([['webhooks', 'Webhooks']] as [string, string][]) : []),
    ...(signed.session?.reviewer ? ([['roster', 'Import and export']] as [string, string][]) : []),
  ])
  const tab = $derived(place.path.split('/')[2] || 'account')
</script>

<div class="h-full overflow-y-auto p-5" use:scrollable={'Settings'}>
  <h1 class="mb-3">Settings</h1>
  <Tabs.Root value={tab} onValueChange={(value) => place.go('/settings/' + value)}>
    <TabList {tabs} />
    <Tabs.Content value="account"
      >{#if tab === 'account'}<AccountSettings />{/if}</Tabs.Content
    >
    <Tabs.Content value="connections"
      >{#if tab === 'connections'}<ConnectionSettings />{/if}</Tabs.Content
    >
    <Tabs.Content value="lanes"
      >{#if tab === 'lanes'}<LaneSettings />{/if}</Tabs.Content
    >
    <Tabs.Content value="bundles"
      >{#if tab === 'bundles'}<BundleSettings />{/if}</Tabs.Content
    >
    <Tabs.Content value="sources"
      >{#if tab === 'sources'}<SourceSettings />{/if}</Tabs.Content
    >
    <Tabs.Content value="webhooks"
      >{#if tab === 'webhooks'}<WebhookSettings />{/if}</Tabs.Content
    >
    <Tabs.Content value="roster"
      >{#if tab === 'roster'}<RosterSettings />{/if}</Tabs.Content
    >
  </Tabs.Root>
</div>
