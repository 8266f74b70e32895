<script lang="ts">
  // For addresses that lead nowhere.
  import { router } from 'svelte-spa-router';
</script>

<svelte:head><title>Page not found · Ispettore</title></svelte:head>
<main>
  <h1>Page not found</h1>
  <p>There is no page at “{router.location}”. The link may be old, or part of it is missing.</p>
  <p><a href="#/">Go to productions</a></p>
</main>

<style>
  main {
    padding: var(--space-7);
  }
  p {
    margin-top: var(--space-4);
  }
</style>
