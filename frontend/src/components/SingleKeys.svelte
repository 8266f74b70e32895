<script lang="ts">
  // Whether single keys act at all.
  import type { Shortcuts } from '../lib/shortcuts.svelte';
  let { shortcuts }: { shortcuts: Shortcuts } = $props();
</script>

<label>
  <input
    type="checkbox"
    checked={shortcuts.single}
    onchange={(event) => shortcuts.allowSingle(event.currentTarget.checked)}
  />
  Use single letters, digits and signs as shortcuts
</label>

<style>
  label {
    display: flex;
    gap: var(--space-4);
    align-items: center;
  }
</style>
