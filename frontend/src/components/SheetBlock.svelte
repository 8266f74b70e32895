<script lang="ts">
  // Some rows of a long table, drawn as they come into view; until then, and when they have gone far, their room is kept.
  import type { Snippet } from 'svelte';
  interface Props {
    count: number;
    columns: number;
    /** Whether it is there before anything is seen. */
    first: boolean;
    /** Whether something in it is in hand, so that it has to stay. */
    held: boolean;
    children: Snippet;
  }
  let { count, columns, first, held, children }: Props = $props();
  const ROW_PX = matchMedia('(max-width: 640px)').matches ? 200 : 58;
  const AHEAD = '900px 0px';
  let near = $state<boolean>();
  let height = $state<number>();

  function watched(body: HTMLTableSectionElement) {
    const observer = new IntersectionObserver(
      ([seen]) => {
        if (seen?.isIntersecting) near = true;
        else if (near && !held && !body.contains(document.activeElement)) {
          height = body.offsetHeight;
          near = false;
        }
      },
      { rootMargin: AHEAD },
    );
    observer.observe(body);
    return () => observer.disconnect();
  }
</script>

<tbody {@attach watched}>
  {#if near ?? first}{@render children()}
  {:else}<tr aria-hidden="true"><td colspan={columns} style:height={`${height ?? count * ROW_PX}px`}></td></tr>{/if}
</tbody>

<style>
  tr[aria-hidden] td {
    padding: 0;
    border: 0;
  }
</style>
