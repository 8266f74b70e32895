<script lang="ts">
  // Titles and numbers from a spreadsheet, for all recordings at once.
  import Button from './Button.svelte';
  import Dialog from './Dialog.svelte';
  interface Props {
    element: HTMLDialogElement | undefined;
    text: string;
    count: number;
    problem: string;
    onpaste: (text: string) => void;
  }
  let { element = $bindable(), text = $bindable(), count, problem, onpaste }: Props = $props();
</script>

<Dialog bind:element title="Paste titles">
  <p class="soft">
    Copy rows from a spreadsheet: titles alone, number and title, or with narrator. One row for each of the {count} recordings,
    in their order; or with a first row that names the columns (file, number, part, title, narrator).
  </p>
  <textarea aria-label="Rows from a spreadsheet" rows="10" spellcheck="false" bind:value={text}></textarea>
  {#if problem}<p class="wrong" role="alert">{problem}</p>{/if}
  <p class="acts">
    <Button strong disabled={!text.trim()} onclick={() => onpaste(text)}>Use these</Button>
    <Button onclick={() => element?.close()}>Cancel</Button>
  </p>
</Dialog>

<style>
  p {
    margin: var(--space-4) 0;
    font-size: var(--type-plain);
  }
  .wrong {
    color: var(--outside);
  }
  textarea {
    width: 100%;
    font-family: var(--figures);
    font-size: var(--type-small);
    color: var(--ink);
    background: var(--sheet);
    border: 1px solid var(--soft);
    padding: var(--space-3) var(--space-4);
    tab-size: 6;
  }
  .acts {
    display: flex;
    gap: var(--space-4);
  }
</style>
