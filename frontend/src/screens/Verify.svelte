<script lang="ts">
  // A certificate, and the file it is of: dropped here, checked, and the answer in one sentence.
  import Across from '../components/Across.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { push } from 'svelte-spa-router';
  import BracketMark from '../components/BracketMark.svelte';
  import Button from '../components/Button.svelte';
  import DropArea from '../components/DropArea.svelte';
  import FileButton from '../components/FileButton.svelte';
  import Progress from '../components/Progress.svelte';
  import UnderWay from '../components/UnderWay.svelte';
  import { said, type Verifying } from '../lib/api';
  import { counted, date, reading, size, unit } from '../lib/format';
  import * as certificates from '../lib/server/certificates';
  import Problem from '../components/Problem.svelte';

  let { params }: { params?: { id?: string } } = $props();
  let certificate = $state<File>();
  let file = $state<File>();
  let notices = $state<string[]>([]);
  let sending = $state<number>();
  let problem = $state('');

  const report = createQuery(() => certificates.verifying(params?.id));
  const NOTICE = /"format"\s*:\s*"ispettore-notice"/;
  async function take(files: File[]) {
    problem = '';
    for (const one of files) {
      const name = one.name.toLowerCase();
      if (name.endsWith('.json')) {
        const text = await one.text();
        if (NOTICE.test(text)) notices = [...notices, text];
        else certificate = one;
      } else if (name.endsWith('.pdf')) certificate = one;
      else file = one;
    }
    if (certificate && file) await check(certificate, file);
  }

  async function check(paper: File, audio?: File) {
    try {
      const text = paper.name.toLowerCase().endsWith('.pdf') ? await asData(paper) : await paper.text();
      const body = { file_name: audio?.name ?? null, certificate_name: paper.name, certificate: text, notices };
      const made = await certificates.verify(body);
      if (audio) {
        sending = 0;
        await send(`/api/verifyings/${made.id}/file`, audio);
      }
      await push(`/verify/${made.id}`);
    } catch (error) {
      problem = (error as Error).message;
    }
    sending = undefined;
    certificate = undefined;
    file = undefined;
    notices = [];
  }

  /** A PDF as text: a data URL. */
  const asData = (paper: File): Promise<string> =>
    new Promise((resolve, reject) => {
      const reader = new FileReader();
      reader.onload = () => resolve(String(reader.result).replace(/^data:[^;,]*/, 'data:application/pdf'));
      reader.onerror = () => reject(new Error(`“${paper.name}” can’t be read.`));
      reader.readAsDataURL(paper);
    });

  function send(address: string, body: File): Promise<void> {
    return new Promise((resolve, reject) => {
      const request = new XMLHttpRequest();
      request.open('PUT', address);
      request.upload.onprogress = (event) => (sending = event.loaded / Math.max(event.total, 1));
      request.onload = () => (request.status < 300 ? resolve() : reject(new Error(said(request.responseText))));
      request.onerror = () => reject(new Error('Connection lost. Drop both files again.'));
      request.send(body);
    });
  }
</script>

{#snippet answered(found: Verifying['report'])}
  {@const withdrawn = found?.ending === 'withdrawn'}
  {@const wrong = found && (!found.intact || withdrawn)}
  {@const doubtful = found && !wrong && (!found.genuine || found.ending === 'superseded')}
  <p class="answer" class:outside={wrong} class:near={doubtful} aria-live="polite">
    {#if found}
      <BracketMark position={wrong ? 'over' : doubtful ? 'near' : 'inside'} size={22} silent />
      {#if !found.intact}Not genuine{:else if withdrawn}Withdrawn{:else if !found.genuine}Intact, but sealed with a key
        that is not known here{:else if found.ending}Genuine, but superseded{:else}Genuine{/if}
    {/if}
  </p>
{/snippet}

<svelte:head><title>Verify a certificate · Ispettore</title></svelte:head>
<DropArea ondrop={({ files }) => take(files)} invitation="Drop a certificate and its file here">
  <div class="page">
    <h1>Verify a certificate</h1>
    <p class="soft">
      Drop a certificate (JSON or PDF) and the audio file it certifies, or the certificate of a production and its
      package as a ZIP file. The seal is checked and everything is measured again. Add the notice that withdraws or
      supersedes a certificate if you have one.
    </p>
    <div class="places">
      <div class:filled={certificate}>
        <h2>Certificate</h2>
        {certificate?.name ?? 'No file chosen'}
        {#if notices.length}<span class="soft">and {counted(notices.length, 'notice')}</span>{/if}
      </div>
      <div class:filled={file}>
        <h2>File</h2>
        {file ? `${file.name}, ${size(file.size)}` : 'No file chosen'}
      </div>
      <div class="acts">
        {#if certificate && !file}
          <Button strong onclick={() => certificate && check(certificate)}>Check the certificate only</Button>
        {/if}
        <FileButton label="Certificate and file" strong={!certificate} multiple onchosen={({ files }) => take(files)}
          >Choose files</FileButton
        >
      </div>
    </div>
    {#if problem}<p class="outside" role="alert">{problem}</p>{/if}
    {#if sending !== undefined}<Progress stage="Uploading" fraction={sending} />{/if}
    {#if report.isError}
      <Problem query={report} />
    {:else if report.data}
      {@const it = report.data}
      <section class="sheet">
        {@render answered(it.report)}
        {#if !it.report}
          {#if it.work?.error}
            <p class="outside" role="alert">{it.work.error}</p>
          {:else if it.work?.state === 'cancelled'}
            <p>The check was cancelled. Drop both files again to restart it.</p>
          {:else if it.work}
            <UnderWay work={it.work} about={it.file_name} />
          {/if}
        {:else}
          {@const found = it.report}
          {@const withdrawn = found.ending === 'withdrawn'}
          {#if found.ended}<p class={withdrawn ? 'outside' : 'near'}>{found.ended}</p>{/if}
          {#each found.problems as sentence (sentence)}<p class="outside">{sentence}</p>{/each}
          {#if found.intact}
            <p>
              {#if found.given}“{it.file_name}” is the certified {found.stated?.of_production
                  ? 'package'
                  : 'file'}.{/if}
              {found.said}
            </p>
          {/if}
          {#if found.methods}<p class="near">{found.methods}</p>{/if}
          {#if found.older.length}
            <Across label="Readings, scrolls sideways">
              <table>
                <caption class="visually-hidden">Figures that other methods read differently</caption>
                <thead>
                  <tr><th scope="col">Reading</th><th scope="col">certified</th><th scope="col">measured today</th></tr>
                </thead>
                <tbody>
                  {#each found.older as one (one.title)}
                    <tr>
                      <th scope="row">{one.title}</th>
                      <td class="figure">{one.certified}</td>
                      <td class="figure">{one.measured}</td>
                    </tr>
                  {/each}
                </tbody>
              </table>
            </Across>
          {/if}
          {#each found.notes as sentence (sentence)}<p class="soft">{sentence}</p>{/each}
          {#if found.stated}
            {@const paper = found.stated}
            <dl>
              {#each paper.lines as line, at (at)}
                <dt>{line.name}</dt>
                <dd class:figure={line.exact}>{line.text}</dd>
              {/each}
              <dt>Specification</dt>
              <dd>{paper.specification.name}, version {paper.specification.version}</dd>
              <dt>Issued</dt>
              <dd>{date(paper.issued)}</dd>
              {#each paper.limits as limit (limit.quantity + limit.applies_to)}
                <dt>{limit.title}</dt>
                <dd class="figure">
                  {reading(limit, 1)}
                  <span class="soft">{unit(limit)}</span>
                </dd>
              {/each}
              {#each paper.parts as part (part.name)}
                <dt>{part.problems.length ? 'Not genuine' : 'Genuine'}</dt>
                <dd class:outside={part.problems.length}>{part.name}</dd>
              {/each}
            </dl>
          {/if}
        {/if}
      </section>
    {/if}
  </div>
</DropArea>

<style>
  .page {
    padding: var(--space-7);
    max-width: 900px;
  }
  .places {
    display: grid;
    grid-template-columns: 1fr 1fr auto;
    gap: var(--space-6);
    margin: var(--space-6) 0;
    align-items: center;
  }
  .places > div:not(.acts) {
    border: 1px solid var(--rule);
    background: var(--sheet);
    padding: var(--space-5) var(--space-6);
    color: var(--soft);
    overflow-wrap: anywhere;
  }
  .places > div.filled {
    color: var(--ink);
    border-color: var(--act);
  }
  .places h2 {
    color: var(--ink);
  }
  .sheet {
    background: var(--sheet);
    border: 1px solid var(--rule);
    padding: var(--space-6) var(--space-7);
  }
  .answer {
    display: flex;
    gap: var(--space-4);
    align-items: center;
    font-size: var(--type-title);
    font-weight: 600;
    color: var(--inside);
    margin-bottom: var(--space-4);
  }
  .outside,
  .answer.outside {
    color: var(--outside);
  }
  .near,
  .answer.near {
    color: var(--near);
  }
  table {
    border-collapse: collapse;
    margin: var(--space-4) 0;
  }
  th,
  td {
    padding: var(--space-1) var(--space-7) var(--space-1) 0;
    text-align: left;
    font-weight: 500;
  }
  thead th {
    color: var(--soft);
    font-size: var(--type-small);
  }
  dl {
    display: grid;
    grid-template-columns: 160px 1fr;
    gap: var(--space-2) var(--space-6);
    margin: var(--space-6) 0 0;
  }
  dt {
    color: var(--soft);
  }
  dd {
    margin: 0;
    overflow-wrap: anywhere;
  }
  .figure {
    font-family: var(--figures);
    font-size: var(--type-plain);
  }
</style>
