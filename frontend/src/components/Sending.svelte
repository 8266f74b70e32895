<script lang="ts">
  // A file on its way in: how far it is, or what went wrong and what to do.
  import type { Upload, Uploads } from '../lib/uploads.svelte';
  import Button from './Button.svelte';
  import Progress from './Progress.svelte';
  let { upload, uploads }: { upload: Upload; uploads: Uploads } = $props();
  const stage = $derived(upload.state === 'waiting' ? 'Queued' : upload.fraction < 1 ? 'Uploading' : 'Saving');
</script>

{#if upload.state === 'failed'}
  <span class="failed" role="alert">{upload.error}</span>
  <Button onclick={() => uploads.retry(upload)}>Try again</Button>
  <Button onclick={() => uploads.dismiss(upload)}>Dismiss</Button>
{:else}
  <Progress {stage} fraction={upload.fraction} about={upload.name} oncancel={() => uploads.cancel(upload)} />
{/if}

<style>
  .failed {
    color: var(--outside);
  }
</style>
