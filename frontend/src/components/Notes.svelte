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
    gap: 3px;
    font-size: 12.5px;
    color: var(--soft);
    margin-bottom: 14px;
  }
  textarea {
    font: inherit;
    font-size: 14px;
    color: var(--ink);
    background: var(--sheet);
    border: 1px solid var(--soft);
    padding: 6px 8px;
    resize: vertical;
  }
</style>
