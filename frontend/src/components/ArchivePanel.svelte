<script lang="ts">
  // The archive of a production: made, downloaded, made again when something was done since.
  import { createQuery } from '@tanstack/svelte-query';
  import type { Acting } from '../lib/acting.svelte';
  import { counted, date, size } from '../lib/format';
  import { underWay } from '../lib/works';
  import * as productions from '../lib/server/productions';
  import Button from './Button.svelte';
  import UnderWay from './UnderWay.svelte';
  import Problem from './Problem.svelte';
  let { production, acting }: { production: string; acting: Acting } = $props();
  const query = createQuery(() => productions.archive(production));
  const found = $derived(query.data);
  const work = $derived(underWay(found?.work ?? null));
  const make = () => acting.attempt(() => productions.makeArchive(production));
</script>

<section aria-label="Archive">
  <h2>Archive</h2>
  <p class="what">
    Everything of this production in one ZIP file: recordings, masters, delivered files, certificates, specifications,
    treatments, notes and this record. Another installation can import it unchanged.
  </p>
  <p class="acts">
    {#if work}
      <UnderWay {work} about="the archive" {acting} />
    {:else if found}
      {#if found.id}
        <a class="file" href={`/api/archives/${found.id}/file`} download>Download archive</a>
        <span
          >{found.as_of ? date(found.as_of) : ''}, {counted(found.files, 'file')}, {size(
            found.size_bytes,
          )}{found.current ? '' : '. It is no longer up to date.'}</span
        >
      {/if}
      {#if !found.current}
        <Button strong={!found.id} onclick={make}>{found.id ? 'Make it again' : 'Make archive'}</Button>
      {/if}
      {#if found.work?.error}<span class="wrong" role="alert">{found.work.error}</span>{/if}
    {/if}
  </p>
  <Problem {query} />
</section>

<style>
  section {
    margin: var(--space-5) 0 var(--space-6);
    padding: var(--space-4) var(--space-5) var(--space-5);
    background: var(--sheet);
    border: 1px solid var(--rule);
  }
  .what {
    max-width: 900px;
    font-size: var(--type-plain);
    color: var(--soft);
  }
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-3) var(--space-6);
    align-items: center;
    margin-top: var(--space-4);
    font-size: var(--type-plain);
  }
  .file {
    font-weight: 550;
  }
  .wrong {
    color: var(--outside);
  }
</style>
