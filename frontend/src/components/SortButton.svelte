<script lang="ts">
  // Sorts a table by one of its columns: upwards, then downwards, then as it was.
  interface Props {
    title: string;
    direction: 'ascending' | 'descending' | 'none';
    onsort: () => void;
  }
  let { title, direction, onsort }: Props = $props();
  const MARK = { none: '↕', ascending: '↑', descending: '↓' };
</script>

<button type="button" class={direction} aria-label={`Sort by ${title}`} title={`Sort by ${title}`} onclick={onsort}
  >{MARK[direction]}</button
>

<style>
  button {
    border: 0;
    background: none;
    min-width: 24px;
    min-height: 24px;
    padding: 0;
    margin: calc(var(--space-2) * -1) calc(var(--space-2) * -1);
    font-size: var(--type-fine);
    color: var(--soft);
    cursor: pointer;
  }
  button:hover,
  .ascending,
  .descending {
    color: var(--act);
  }
  @media print {
    button {
      display: none;
    }
  }
</style>
