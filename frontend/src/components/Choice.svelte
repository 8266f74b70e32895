<script lang="ts" generics="Value extends string">
  // One of a few, with its label above.
  import Labelled from './Labelled.svelte';
  interface Props {
    label: string;
    value: Value;
    options: readonly (readonly [Value, string])[];
    onchange: (value: Value) => void;
  }
  let { label, value, options, onchange }: Props = $props();
</script>

<Labelled {label}>
  <select {value} onchange={(event) => onchange(event.currentTarget.value as Value)}>
    {#each options as [option, words] (option)}<option value={option}>{words}</option>{/each}
  </select>
</Labelled>

<style>
  select {
    max-width: 230px;
  }
</style>
