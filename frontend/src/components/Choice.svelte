<script lang="ts" generics="Value extends string">
  // One of a few, with its label above.
  interface Props {
    label: string;
    value: Value;
    options: readonly (readonly [Value, string])[];
    onchange: (value: Value) => void;
  }
  let { label, value, options, onchange }: Props = $props();
</script>

<label>
  {label}
  <select {value} onchange={(event) => onchange(event.currentTarget.value as Value)}>
    {#each options as [option, words] (option)}<option value={option}>{words}</option>{/each}
  </select>
</label>

<style>
  label {
    display: grid;
    gap: 2px;
    font-size: 12.5px;
    color: var(--soft);
  }
  select {
    font-size: 15px;
    color: var(--ink);
    background: var(--sheet);
    border: 1px solid var(--soft);
    border-radius: 3px;
    padding: 4px 8px;
    max-width: 230px;
  }
</style>
