<script lang="ts">
  import { QueryClient, QueryClientProvider } from '@tanstack/svelte-query';
  import Shell from './Shell.svelte';

  const client = new QueryClient({
    defaultOptions: { queries: { staleTime: Infinity, retry: 2, refetchOnReconnect: true } },
  });
</script>

<QueryClientProvider {client}>
  <Shell />
</QueryClientProvider>
