<script lang="ts" generics="Value extends string | number">
  // One of a few, side by side, moved through by the arrow keys.
  interface Props {
    label: string;
    value: Value | undefined;
    options: readonly (readonly [Value, string])[];
    /** Told again when what is chosen already is clicked. */
    onchoose: (value: Value) => void;
    /** As wide as there is room, each in a frame. */
    wide?: boolean;
  }
  let { label, value, options, onchoose, wide = false }: Props = $props();
  const name = $props.id();
</script>

<span class="row" class:wide role="radiogroup" aria-label={label}>
  {#each options as [option, words] (option)}
    <label class:chosen={option === value}>
      <input type="radio" {name} checked={option === value} onclick={() => onchoose(option)} />{words}</label
    >
  {/each}
</span>

<style>
  .row {
    display: flex;
    gap: var(--space-5);
  }
  label {
    position: relative;
    padding: var(--space-2) var(--space-1);
    color: var(--soft);
    cursor: pointer;
  }
  .wide label {
    flex: 1;
    border: 1px solid var(--soft);
    padding: var(--space-5);
    text-align: center;
    color: var(--ink);
  }
  .chosen {
    color: var(--ink);
    font-weight: 600;
    box-shadow: 0 2px 0 var(--act);
  }
  .wide .chosen {
    border-color: var(--ink);
    box-shadow: inset 0 -3px 0 var(--act);
  }
  input {
    position: absolute;
    inset: 0;
    width: 100%;
    height: 100%;
    margin: 0;
    opacity: 0;
    cursor: pointer;
  }
  label:has(:focus-visible) {
    outline: 2px solid var(--act);
    outline-offset: 2px;
  }
</style>
