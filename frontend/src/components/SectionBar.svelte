<script lang="ts">
  // What one half of the bench shows; each choice is an address, but no step on the way back.
  import { replace } from 'svelte-spa-router';
  interface Props {
    label: string;
    sections: readonly { name: string; title: string; address: string; count?: number }[];
    current: string;
  }
  let { label, sections, current }: Props = $props();
</script>

<nav aria-label={label}>
  {#each sections as { name, title, address, count } (name)}
    <a
      href={`#${address}`}
      aria-current={name === current ? 'page' : undefined}
      onclick={(event) => {
        if (event.ctrlKey || event.metaKey || event.shiftKey) return;
        event.preventDefault();
        void replace(address);
      }}
      >{title}{#if count}<span class="count">{count}</span>{/if}</a
    >
  {/each}
</nav>

<style>
  nav {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-1) var(--space-6);
    padding: var(--space-4) var(--space-5) 0;
    border-bottom: 1px solid var(--rule);
  }
  a {
    color: var(--soft);
    text-decoration: none;
    padding-bottom: var(--space-4);
    font-size: var(--type-plain);
    white-space: nowrap;
  }
  a[aria-current] {
    color: var(--ink);
    font-weight: 600;
    box-shadow: 0 2px 0 var(--act);
  }
  .count {
    font-family: var(--figures);
    font-size: var(--type-fine);
    font-weight: 400;
    color: var(--soft);
    padding-left: var(--space-2);
  }
</style>
