<script lang="ts">
  // Where the work on a production stands: what counts, and how many recordings stand where; each count shows those alone.
  import type { StatusCount } from '../lib/api';
  interface Props {
    standing: StatusCount[];
    certified: number;
    specification: string;
    show: string;
    onshow: (show: string) => void;
  }
  let { standing, certified, specification, show, onshow }: Props = $props();
  const all = $derived(standing.reduce((sum, { count }) => sum + count, 0));
  const whole = $derived(all > 0 && certified === all);
</script>

{#if all}
  <p>
    <b class:inside={whole}>{whole && all > 1 ? `All ${all}` : `${certified} of ${all}`} certified</b>
    <span class="soft">for {specification}</span>
    <span class="each" role="group" aria-label="Recordings by verdict">
      {#each standing as { status, word, count } (status)}
        <button
          type="button"
          class={status}
          aria-pressed={show === status}
          title={show === status ? 'Show all' : `Show only these ${count}`}
          onclick={() => onshow(show === status ? 'all' : status)}><b>{count}</b> {word}</button
        >
      {/each}
    </span>
  </p>
{:else}
  <p class="soft">Specification: {specification}. No recordings yet.</p>
{/if}

<style>
  p {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-1) var(--space-3);
    align-items: baseline;
  }
  b {
    font-weight: 550;
  }
  b.inside {
    color: var(--inside);
  }
  .each {
    display: flex;
    flex-wrap: wrap;
    gap: 0 var(--space-5);
    margin-left: var(--space-4);
  }
  button {
    border: 0;
    padding: 0 1px;
    background: none;
    font: inherit;
    font-size: var(--type-plain);
    color: var(--soft);
    cursor: pointer;
    border-bottom: 1.5px solid transparent;
  }
  button b {
    font-family: var(--figures);
    font-weight: 400;
    color: var(--ink);
  }
  button:hover,
  [aria-pressed='true'] {
    color: var(--act);
    border-bottom-color: currentColor;
  }
  .outside b,
  .stuck b {
    color: var(--outside);
  }
</style>
