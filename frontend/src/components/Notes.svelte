<script lang="ts">
  // Notes on a production, as tall as what is written.
  let { notes, onchange }: { notes: string; onchange: (notes: string) => unknown } = $props();
  const rows = $derived(Math.min(6, Math.max(2, notes.split('\n').length)));
</script>

<label>
  Notes
  <textarea {rows} maxlength="20000" value={notes} onchange={(event) => onchange(event.currentTarget.value)}></textarea>
</label>

<style>
  label {
    display: grid;
    gap: var(--space-2);
    font-size: var(--type-small);
    color: var(--soft);
    margin-bottom: var(--space-5);
  }
  textarea {
    font: inherit;
    font-size: var(--type-plain);
    color: var(--ink);
    background: var(--sheet);
    border: 1px solid var(--soft);
    padding: var(--space-3) var(--space-4);
    resize: vertical;
  }
</style>
