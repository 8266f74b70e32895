<script lang="ts">
  // Holds what may be wider than a narrow screen: it scrolls sideways by itself, by keys as well, and the page does not.
  import type { Snippet } from 'svelte';
  let { label, children }: { label: string; children: Snippet } = $props();
  let wide = $state(false);
  function measured(holder: HTMLElement) {
    const look = () => (wide = holder.scrollWidth > holder.clientWidth + 1);
    const observer = new ResizeObserver(look);
    observer.observe(holder);
    if (holder.firstElementChild) observer.observe(holder.firstElementChild);
    return () => observer.disconnect();
  }
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex (what scrolls has to be reached by keys) -->
<div
  class="across"
  {@attach measured}
  tabindex={wide ? 0 : undefined}
  role={wide ? 'group' : undefined}
  aria-label={wide ? label : undefined}
>
  {@render children()}
</div>

<style>
  @media screen and (max-width: 1000px) {
    .across {
      position: relative;
      overflow-x: auto;
    }
  }
</style>
