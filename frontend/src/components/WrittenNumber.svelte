<script lang="ts">
  // A number inside a sentence, edited where it stands. What is written is told at once; an emptied field when it is left.
  import { bound, written } from '../lib/format';
  interface Props {
    label: string;
    value: number | string | null | undefined;
    quantity?: string;
    invalid?: boolean;
    describedby?: string;
    onwritten: (value: number | string) => void;
    onemptied?: () => void;
  }
  let { label, value, quantity = '', invalid = false, describedby, onwritten, onemptied }: Props = $props();
  let text = $state<string>();
  const shown = $derived(text ?? bound(value, quantity));
</script>

<input
  aria-label={label}
  aria-invalid={invalid}
  aria-describedby={invalid ? describedby : undefined}
  inputmode="decimal"
  autocomplete="off"
  value={shown}
  style:width={`${Math.max(3, shown.length) + 1.6}ch`}
  oninput={(event) => {
    text = event.currentTarget.value;
    if (text.trim()) onwritten(written(text));
  }}
  onblur={() => {
    if (text !== undefined && !text.trim()) onemptied?.();
    text = undefined;
  }}
/>

<style>
  input {
    font-family: var(--figures);
    font-size: 0.95em;
    color: var(--ink);
    background: var(--paper);
    border: 0;
    border-bottom: 1.5px solid var(--act);
    padding: 1px 0.5ch;
    text-align: center;
  }
  input[aria-invalid='true'] {
    border-bottom-color: var(--outside);
    color: var(--outside);
  }
</style>
