<script lang="ts">
  // A screen whose script did not come: the server is away, or was updated since this page was opened.
  import LinkButton from '../components/LinkButton.svelte';
</script>

<svelte:head><title>Not loaded · Ispettore</title></svelte:head>
<main>
  <h1>This screen did not load</h1>
  <p role="alert">
    Ispettore may not be running, or it was updated since you opened this page.
    <LinkButton onclick={() => location.reload()}>Reload the page</LinkButton>
  </p>
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
  p {
    margin-top: var(--space-3);
  }
</style>
