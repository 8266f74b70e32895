<script lang="ts">
  // The picture that the files carry: as it is, chosen or dropped here, or removed.
  import type { Delivery } from '../lib/api';
  import type { Delivering } from '../lib/delivering.svelte';
  import { number, size } from '../lib/format';
  import FileButton from './FileButton.svelte';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    production: string;
    cover: Delivery['cover'];
    delivering: Delivering;
  }
  let { production, cover, delivering }: Props = $props();
  const take = (file: File | undefined) => file && void delivering.putCover(file);
</script>

<div
  class="cover"
  role="group"
  aria-label="Cover"
  ondragover={(event) => event.preventDefault()}
  ondrop={(event) => {
    event.preventDefault();
    take(event.dataTransfer?.files[0]);
  }}
>
  <div class="picture" class:empty={!cover}>
    {#if cover}<img
        src={`/api/productions/${production}/delivery/cover?${cover.sha256.slice(0, 12)}`}
        alt={`Cover: ${cover.name}`}
      />{:else}<span>No cover</span>{/if}
  </div>
  <div class="said">
    {#if cover}
      <p class="soft">
        {number(cover.width, 0)} × {number(cover.height, 0)}, {size(cover.size_bytes)}
      </p>
      {#if cover.advice}<p class="near">{cover.advice}</p>{/if}
    {:else}
      <p class="soft">Cover: JPEG or PNG, square, at least 500 pixels. Choose one, or drop it here.</p>
    {/if}
    <p class="acts">
      <FileButton label="Cover picture" accept="image/jpeg,image/png" onchosen={({ files }) => take(files[0])}
        >{cover ? 'Replace…' : 'Choose…'}</FileButton
      >
      {#if cover}<LinkButton onclick={() => void delivering.removeCover()}>Remove</LinkButton>{/if}
    </p>
  </div>
</div>

<style>
  .cover {
    display: flex;
    gap: var(--space-5);
  }
  .picture {
    flex: none;
    width: 116px;
    height: 116px;
    border: 1px solid var(--rule);
    background: var(--paper);
    display: grid;
    place-items: center;
    overflow: hidden;
    font-size: var(--type-small);
    color: var(--soft);
  }
  .empty {
    border: 1px dashed var(--soft);
  }
  img {
    width: 100%;
    height: 100%;
    object-fit: contain;
  }
  .said {
    display: flex;
    flex-direction: column;
    gap: var(--space-3);
    font-size: var(--type-small);
  }
  .near {
    color: var(--near);
  }
  .acts {
    display: flex;
    gap: var(--space-5);
    align-items: baseline;
    margin-top: var(--space-2);
    font-size: var(--type-plain);
  }
</style>
