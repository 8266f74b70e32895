<script lang="ts">
  // A line of text with its label above, kept when it is left or Enter is pressed; Escape puts back what was there.
  import Labelled from './Labelled.svelte';
  interface Props {
    label: string;
    value: string;
    onchange: (value: string) => void;
    oninput?: (value: string) => void;
    placeholder?: string;
    maxlength?: number;
    figures?: boolean;
    element?: HTMLInputElement;
    invalid?: boolean;
    /** The id of what says more of it. */
    describedby?: string;
  }
  let {
    label,
    value,
    onchange,
    oninput,
    placeholder = '',
    maxlength = 200,
    figures = false,
    element = $bindable(),
    invalid = false,
    describedby,
  }: Props = $props();
</script>

<Labelled {label}>
  <input
    bind:this={element}
    class:figures
    {value}
    {placeholder}
    {maxlength}
    spellcheck="false"
    aria-invalid={invalid}
    aria-describedby={describedby}
    autocomplete="off"
    onchange={(event) => onchange(event.currentTarget.value)}
    oninput={(event) => oninput?.(event.currentTarget.value)}
    onkeydown={(event) => {
      if (event.key === 'Enter') event.currentTarget.blur();
      if (event.key === 'Escape') {
        event.currentTarget.value = value;
        oninput?.(value);
        event.currentTarget.blur();
      }
    }}
  />
</Labelled>

<style>
  input {
    width: 100%;
  }
  .figures {
    font-family: var(--figures);
  }
</style>
