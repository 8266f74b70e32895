<script lang="ts">
  // What changed from one to another: what was, crossed out, and what is.
  import type { Change } from '../lib/api';
  interface Props {
    changes: Change[];
    label: string;
    /** Whether each says what it is about. */
    named?: boolean;
  }
  let { changes, label, named = false }: Props = $props();
</script>

<ul aria-label={label}>
  {#each changes as change (change.kind + change.about + change.after + change.before)}
    <li>
      {#if named}<span class="about">{change.about}</span>{/if}
      {#if change.before}<del>{change.before}</del>{/if}
      {#if change.after}<ins>{change.after}</ins>{/if}
    </li>
  {/each}
</ul>

<style>
  ul {
    list-style: none;
    margin: var(--space-3) 0 0;
    padding: 0;
    font-size: var(--type-plain);
  }
  li {
    display: grid;
    gap: 1px;
    padding: var(--space-2) 0;
  }
  .about {
    font-size: var(--type-small);
    color: var(--soft);
  }
  del {
    color: var(--soft);
  }
  ins {
    text-decoration: none;
  }
</style>
