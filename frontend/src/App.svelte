<script lang="ts">
  import { QueryClientProvider } from '@tanstack/svelte-query';
  import { client } from './lib/client';
  import Shell from './Shell.svelte';
</script>

<QueryClientProvider {client}>
  <Shell />
</QueryClientProvider>
