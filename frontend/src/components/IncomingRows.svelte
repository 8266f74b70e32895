<script lang="ts">
  // Files on their way into a production, and those of which a part came in before.
  import { createQuery } from '@tanstack/svelte-query';
  import { getContext } from 'svelte';
  import type { Acting } from '../lib/acting.svelte';
  import { size } from '../lib/format';
  import { matches, type Uploads } from '../lib/uploads.svelte';
  import * as incoming from '../lib/server/uploads';
  import Button from './Button.svelte';
  import Sending from './Sending.svelte';
  interface Props {
    production: string;
    /** How many columns stand between name and last. */
    columns: number;
    acting: Acting;
  }
  let { production, columns, acting }: Props = $props();
  const uploads = getContext<Uploads>('uploads');
  const mine = $derived(uploads.list.filter((upload) => upload.wanted.productionId === production));
  const parts = createQuery(() => incoming.unfinished(production));
  // What came in part before this page was opened, and is not on its way again.
  const waiting = $derived((parts.data ?? []).filter((part) => !mine.some((upload) => matches(part, upload))));
</script>

<tbody>
  {#each mine as upload (upload.key)}
    <tr>
      <th scope="row" class="first">{upload.name}<span class="facts">{size(upload.size)}</span></th>
      <td colspan={columns + 1}>
        <Sending {upload} {uploads} />
      </td>
    </tr>
  {/each}
  {#each waiting as part (part.id)}
    <tr data-part={part.name}>
      <th scope="row" class="first">{part.name}<span class="facts">{size(part.size_bytes)}</span></th>
      <td colspan={columns}
        >Upload stopped at {Math.floor((100 * part.received_bytes) / part.size_bytes)} %. Add the file again to resume.</td
      >
      <td
        ><Button label={`Discard upload of ${part.name}`} onclick={() => acting.attempt(() => incoming.forget(part.id))}
          >Discard upload</Button
        ></td
      >
    </tr>
  {/each}
</tbody>

<style>
  .facts {
    display: block;
    font-size: var(--type-fine);
    font-weight: 400;
    color: var(--soft);
  }
</style>
