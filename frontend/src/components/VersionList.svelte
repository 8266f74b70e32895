<script lang="ts">
  // The versions of something that is kept: when each was, what it changed, and what was made by it.
  import { createQuery } from '@tanstack/svelte-query';
  import type { Change } from '../lib/api';
  import { date } from '../lib/format';
  import type { question } from '../lib/question';
  import ChangeList from './ChangeList.svelte';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    /** When each was kept, oldest first, and what was made by it, in words. */
    versions: { version: number; created_at: string | null; made: string }[];
    /** Whether it ships: then nothing is brought back. */
    ships: boolean;
    fileOf: (version: number) => string;
    changesOf: (pair: { before: number; after: number }) => ReturnType<typeof question<Change[]>>;
    onbringback: (version: number) => void;
  }
  let { versions, ships, fileOf, changesOf, onbringback }: Props = $props();
  const known = $derived(versions.map((version) => version.version));
  const newest = $derived(known.at(-1) ?? 1);
  let chosen = $state<{ before: number; after: number }>();
  const pair = $derived(chosen ?? { before: known.at(-2) ?? newest, after: newest });
  const changes = createQuery(() => ({ ...changesOf(pair), enabled: known.length > 1 }));
</script>

<section aria-label="Versions">
  <h2>Versions</h2>
  <ol>
    {#each [...versions].reverse() as one (one.version)}
      <li>
        <span class="figure">{one.version}</span>
        <span>
          {one.created_at ? date(one.created_at) : one.version === newest ? 'built in' : 'built in before'}
          {#if one.made}<span class="soft">{one.made}</span>{/if}
        </span>
        <span class="acts">
          <a href={fileOf(one.version)} download>JSON<span class="visually-hidden"> of version {one.version}</span></a>
          {#if one.version !== newest && !ships}<LinkButton onclick={() => onbringback(one.version)}
              >Restore<span class="visually-hidden"> version {one.version}</span></LinkButton
            >{/if}
        </span>
      </li>
    {/each}
  </ol>
  {#if known.length > 1}
    <h3>
      Changes from version
      <select
        aria-label="Older version"
        value={String(pair.before)}
        onchange={(event) => (chosen = { ...pair, before: Number(event.currentTarget.value) })}
        >{#each known as one (one)}<option value={String(one)}>{one}</option>{/each}</select
      >
      to
      <select
        aria-label="Newer version"
        value={String(pair.after)}
        onchange={(event) => (chosen = { ...pair, after: Number(event.currentTarget.value) })}
        >{#each known as one (one)}<option value={String(one)}>{one}</option>{/each}</select
      >
    </h3>
    {#if changes.data?.length === 0}<p class="soft">No differences.</p>
    {:else}<ChangeList changes={changes.data ?? []} label="Changes" />{/if}
  {/if}
</section>

<style>
  h3 {
    font-size: var(--type-plain);
    font-weight: 550;
    margin: var(--space-5) 0 var(--space-2);
  }
  ol {
    list-style: none;
    margin: var(--space-3) 0 0;
    padding: 0;
    font-size: var(--type-plain);
  }
  ol li {
    display: grid;
    grid-template-columns: 2ch 1fr auto;
    gap: var(--space-4);
    padding: var(--space-2) 0;
    border-bottom: 1px solid var(--rule);
  }
  .figure {
    font-family: var(--figures);
  }
  .acts {
    display: flex;
    gap: var(--space-4);
  }
  select {
    font-size: var(--type-plain);
    border: 0;
    border-bottom: 1px dotted var(--soft);
    background: none;
  }
</style>
