<script lang="ts">
  // Archives of other installations: brought in, checked, imported; keys that are unknown here are compared first.
  import { createQuery } from '@tanstack/svelte-query';
  import { getContext } from 'svelte';
  import { Acting } from '../lib/acting.svelte';
  import type { ImportView } from '../lib/api';
  import { counted, size } from '../lib/format';
  import { matches, type Uploads } from '../lib/uploads.svelte';
  import { underWay } from '../lib/works';
  import * as installation from '../lib/server/installation';
  import * as incoming from '../lib/server/uploads';
  import Button from './Button.svelte';
  import FileButton from './FileButton.svelte';
  import Question from './Question.svelte';
  import Sending from './Sending.svelte';
  import SheetList from './SheetList.svelte';
  import UnderWay from './UnderWay.svelte';

  const acting = new Acting();
  const uploads = getContext<Uploads>('uploads');
  const sending = $derived(uploads.list.filter((upload) => !upload.wanted.productionId));
  const imports = createQuery(() => installation.imports());
  const parts = createQuery(() => incoming.unfinished());
  const waiting = $derived((parts.data ?? []).filter((part) => !sending.some((upload) => matches(part, upload))));
  let asking = $state<ImportView>();
  let dialog: HTMLDialogElement | undefined = $state();

  function compare(one: ImportView) {
    asking = one;
    acting.problem = '';
    dialog?.showModal();
  }
  async function trust() {
    await acting.attempt(async () => {
      if (!asking) return;
      const keys = (asking.outcome?.unknown ?? []).map((key) => key.fingerprint);
      await installation.trustAndImport(asking.id, keys);
    });
    if (!acting.problem) dialog?.close();
  }
  const again = (one: ImportView) => acting.attempt(() => installation.importAgain(one.id));
  const dismiss = (one: ImportView) => acting.attempt(() => installation.discardImport(one.id));
  import Problem from './Problem.svelte';
</script>

<section aria-label="Archives">
  <h2>A production from another installation</h2>
  <p class="soft">
    Its archive, made there on the Record page, holds everything that was made and certified. It is checked completely
    before anything is imported.
  </p>
  <FileButton
    label="Archive to import"
    accept=".zip"
    onchosen={({ files }) => {
      uploads.add(undefined, files);
    }}>Import an archive…</FileButton
  >
  {#if !dialog?.open}<Problem {acting} />{/if}
  {#if sending.length || waiting.length || imports.data?.length}
    <SheetList>
      {#each sending as upload (upload.key)}
        <li>
          <b>{upload.name}</b>
          <Sending {upload} {uploads} />
        </li>
      {/each}
      {#each waiting as part (part.id)}
        <li>
          <b>{part.name}</b>
          <span
            >{Math.floor((100 * part.received_bytes) / part.size_bytes)} % came in before it was broken off. Choose it again
            to go on from there.</span
          >
          <Button
            label={`Discard upload of ${part.name}`}
            onclick={() => acting.attempt(() => incoming.forget(part.id))}>Forget</Button
          >
        </li>
      {/each}
      {#each imports.data ?? [] as one (one.id)}
        {@const work = underWay(one.work)}
        <li data-import={one.file_name}>
          <b>{one.file_name} <span class="size">{size(one.size_bytes)}</span></b>
          {#if work}
            <UnderWay {work} about={one.file_name} {acting} />
          {:else if one.outcome?.production}
            <span
              ><a href={`#/productions/${one.outcome.production}`}>{one.outcome.name}</a>
              {one.outcome.before
                ? `is already here and was not changed${one.outcome.files ? `; ${counted(one.outcome.files, 'missing file')} put back` : ''}.`
                : `is here: ${counted(one.outcome.recordings, 'recording')}, ${counted(one.outcome.files, 'file')}, unchanged.`}</span
            >
            <Button label={`Dismiss ${one.file_name}`} onclick={() => dismiss(one)}>Dismiss</Button>
          {:else if one.outcome?.unknown.length}
            <span
              >“{one.outcome.name}” is whole, but sealed with {one.outcome.unknown.length === 1
                ? 'a key that is'
                : `${one.outcome.unknown.length} keys that are`} not trusted here. Nothing is imported yet.</span
            >
            <Button strong onclick={() => compare(one)}>Compare and trust…</Button>
            <Button label={`Discard ${one.file_name}`} onclick={() => dismiss(one)}>Discard</Button>
          {:else}
            <span class="wrong" role="alert">{one.work?.error ?? 'Cancelled; nothing was imported.'}</span>
            <Button label={`Import ${one.file_name} again`} onclick={() => again(one)}>Try again</Button>
            <Button label={`Discard ${one.file_name}`} onclick={() => dismiss(one)}>Discard</Button>
          {/if}
        </li>
      {/each}
    </SheetList>
  {/if}
  <Question
    title="Trust what sealed this archive"
    meaning="Certificates sealed with it count as genuine here from now on. Compare the fingerprint with whoever made the archive, by another way than the archive came."
    act="It matches: trust and import"
    bind:element={dialog}
    problem={acting.problem}
    onact={trust}
  >
    <ul class="keys">
      {#each asking?.outcome?.unknown ?? [] as key (key.fingerprint)}
        <li>
          <code>{key.fingerprint}</code>
          <span class="soft"
            >sealed {[
              key.sealed_archive ? 'the archive' : '',
              key.certificates ? counted(key.certificates, 'certificate') : '',
            ]
              .filter(Boolean)
              .join(' and ')}</span
          >
        </li>
      {/each}
    </ul>
  </Question>
</section>

<style>
  section {
    margin-top: var(--space-8);
  }
  .soft {
    font-size: var(--type-plain);
    margin: var(--space-1) 0 var(--space-4);
  }
  .keys {
    list-style: none;
    margin: var(--space-5) 0 0;
    padding: 0;
    font-size: var(--type-plain);
  }
  li {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-3) var(--space-5);
    align-items: center;
  }
  b {
    font-weight: 550;
  }
  .size {
    display: block;
    color: var(--soft);
    font-size: var(--type-fine);
    font-weight: 400;
  }
  li > span {
    flex: 1 1 300px;
  }
  .keys li {
    padding: var(--space-2) 0;
  }
  code {
    font-family: var(--figures);
    font-size: var(--type-small);
  }
  .wrong {
    color: var(--outside);
  }
</style>
