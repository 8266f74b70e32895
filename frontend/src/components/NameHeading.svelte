<script lang="ts">
  // The name of what a screen is about, as its heading; while it is being changed, a field in its place.
  interface Props {
    name: string;
    /** What the field is called. */
    label: string;
    renaming: boolean;
    longest?: number;
    onrename: (name: string) => unknown;
  }
  let { name, label, renaming = $bindable(), longest = 120, onrename }: Props = $props();

  function keep(event: Event & { currentTarget: HTMLInputElement }): void {
    const wanted = event.currentTarget.value.trim();
    renaming = false;
    if (wanted && wanted !== name) void onrename(wanted);
  }
</script>

{#if renaming}
  <input
    aria-label={label}
    value={name}
    maxlength={longest}
    {@attach (field) => {
      field.focus();
      field.select();
    }}
    onchange={keep}
    onblur={() => (renaming = false)}
    onkeydown={(event) => {
      if (event.key === 'Enter') event.currentTarget.blur();
      if (event.key === 'Escape') {
        event.currentTarget.value = name;
        renaming = false;
      }
    }}
  />
{:else}
  <h1>{name}</h1>
{/if}

<style>
  input {
    font-size: var(--type-title);
    font-weight: 600;
    letter-spacing: -0.01em;
    border: 1px solid var(--soft);
    background: var(--sheet);
    padding: 0 var(--space-3);
    width: min(28em, 90vw);
  }
</style>
