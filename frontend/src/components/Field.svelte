<script lang="ts">
  // A line of text with its label above, kept when it is left or Enter is pressed; Escape puts back what was there.
  interface Props {
    label: string;
    value: string;
    onchange: (value: string) => void;
    oninput?: (value: string) => void;
    placeholder?: string;
    maxlength?: number;
    figures?: boolean;
    element?: HTMLInputElement;
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
  }: Props = $props();
</script>

<label>
  {label}
  <input
    bind:this={element}
    class:figures
    {value}
    {placeholder}
    {maxlength}
    spellcheck="false"
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
</label>

<style>
  label {
    display: grid;
    gap: 2px;
    font-size: 12.5px;
    color: var(--soft);
  }
  input {
    font-size: 14.5px;
    color: var(--ink);
    background: var(--sheet);
    border: 1px solid var(--soft);
    border-radius: 3px;
    padding: 4px 8px;
    min-width: 0;
    width: 100%;
  }
  .figures {
    font-family: var(--figures);
    font-size: 13px;
    padding: 5px 8px;
  }
</style>
