// What is known of the server on every screen: each answer is kept until something says that it is old.
import { QueryClient } from '@tanstack/svelte-query';

export const client = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: Infinity,
      // Asking a second time lets nobody in.
      retry: (count, error) => count < 2 && (error as { act?: string }).act !== 'sign in',
      refetchOnReconnect: true,
    },
    // What was asked for is sent at once or refused: a server on this machine is not away for being offline.
    mutations: { networkMode: 'always' },
  },
});
