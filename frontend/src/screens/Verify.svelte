<script lang="ts">
  // A certificate and the file it speaks of: dropped here, checked, and the answer in one sentence.
  import { createQuery } from '@tanstack/svelte-query';
  import { getContext } from 'svelte';
  import { push } from 'svelte-spa-router';
  import BracketMark from '../components/BracketMark.svelte';
  import Button from '../components/Button.svelte';
  import DropArea from '../components/DropArea.svelte';
  import Progress from '../components/Progress.svelte';
  import { answer, api, said } from '../lib/api';
  import { date, reading, size, unit } from '../lib/format';
  import type { Live } from '../lib/live.svelte';

  let { params }: { params?: { id?: string } } = $props();
  const live = getContext<Live>('live');
  let certificate = $state<File>();
  let file = $state<File>();
  let sending = $state<number>();
  let problem = $state('');
  let chooser: HTMLInputElement | undefined = $state();

  const report = createQuery(() => ({
    queryKey: ['verifying', params?.id],
    enabled: Boolean(params?.id),
    queryFn: async () =>
      answer(await api.GET('/api/verifyings/{verifying_id}', { params: { path: { verifying_id: params?.id ?? '' } } })),
  }));
  function take(files: File[]) {
    problem = '';
    for (const one of files) {
      if (one.name.toLowerCase().endsWith('.json')) certificate = one;
      else file = one;
    }
    if (certificate && file) void check(certificate, file);
  }

  async function check(paper: File, audio: File) {
    try {
      const body = { file_name: audio.name, certificate_name: paper.name, certificate: await paper.text() };
      const made = answer(await api.POST('/api/verifyings', { body }));
      sending = 0;
      await send(`/api/verifyings/${made.id}/file`, audio);
      await push(`/verify/${made.id}`);
    } catch (error) {
      problem = (error as Error).message;
    }
    sending = undefined;
    certificate = undefined;
    file = undefined;
  }

  function send(address: string, body: File): Promise<void> {
    return new Promise((resolve, reject) => {
      const request = new XMLHttpRequest();
      request.open('PUT', address);
      request.upload.onprogress = (event) => (sending = event.loaded / Math.max(event.total, 1));
      request.onload = () => (request.status < 300 ? resolve() : reject(new Error(said(request.responseText))));
      request.onerror = () => reject(new Error('The connection broke. Drop both files again.'));
      request.send(body);
    });
  }
</script>

<svelte:head><title>Verify a certificate · Ispettore</title></svelte:head>
<DropArea ondrop={({ files }) => take(files)} invitation="Drop a certificate and its file here">
  <div class="page">
    <h1>Verify a certificate</h1>
    <p class="soft">
      Drop the certificate (JSON) and the file it speaks of. The seal is checked, and every reading is measured again.
    </p>
    <div class="places">
      <div class:filled={certificate}>
        <h2>Certificate</h2>
        {certificate?.name ?? 'not here yet'}
      </div>
      <div class:filled={file}>
        <h2>File</h2>
        {file ? `${file.name}, ${size(file.size)}` : 'not here yet'}
      </div>
      <input
        class="visually-hidden"
        type="file"
        multiple
        tabindex="-1"
        aria-label="Certificate and file"
        bind:this={chooser}
        onchange={(event) => take([...(event.currentTarget.files ?? [])])}
      />
      <Button strong onclick={() => chooser?.click()}>Choose both</Button>
    </div>
    {#if problem}<p class="outside" role="alert">{problem}</p>{/if}
    {#if sending !== undefined}<Progress stage="bringing in" fraction={sending} />{/if}
    {#if report.isError}
      <p class="outside" role="alert">{report.error.message}</p>
    {:else if report.data}
      {@const it = report.data}
      <section class="sheet" aria-live="polite">
        {#if !it.report}
          {#if it.work?.error}
            <p class="outside" role="alert">{it.work.error}</p>
          {:else if it.work?.state === 'cancelled'}
            <p>The check was cancelled. Drop both files again to restart it.</p>
          {:else if it.work}
            {@const now = live.progress[it.work.id] ?? it.work}
            <Progress stage={now.stage || 'waiting'} fraction={now.fraction} about={it.file_name} />
          {/if}
        {:else}
          {@const found = it.report}
          <p class="answer" class:outside={!found.intact} class:near={found.intact && !found.genuine}>
            <BracketMark position={found.genuine ? 'inside' : found.intact ? 'near' : 'over'} size={22} silent />
            {found.genuine ? 'Genuine' : found.intact ? 'Intact, but sealed by a key not known here' : 'Not genuine'}
          </p>
          {#each found.problems as sentence (sentence)}<p class="outside">{sentence}</p>{/each}
          {#if found.intact}<p>“{it.file_name}” is the certified file. {found.said}</p>{/if}
          {#if found.methods}<p class="near">{found.methods}</p>{/if}
          {#if found.older.length}
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
          {/if}
          {#each found.notes as sentence (sentence)}<p class="soft">{sentence}</p>{/each}
          {#if found.stated}
            {@const paper = found.stated}
            <dl>
              <dt>File</dt>
              <dd>{paper.file_name}</dd>
              <dt>Specification</dt>
              <dd>{paper.specification.name}, version {paper.specification.version}</dd>
              <dt>Issued</dt>
              <dd>{date(paper.issued)}, {paper.issuer}</dd>
              <dt>SHA-256</dt>
              <dd class="figure">{paper.sha256}</dd>
              <dt>Key</dt>
              <dd class="figure">{found.key_id}</dd>
              {#each paper.limits as limit (limit.quantity)}
                <dt>{limit.title}</dt>
                <dd class="figure">
                  {reading(limit, 1)}
                  <span class="soft">{unit(limit)}</span>
                </dd>
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
    padding: 24px;
    max-width: 900px;
  }
  .soft {
    color: var(--soft);
  }
  .places {
    display: grid;
    grid-template-columns: 1fr 1fr auto;
    gap: 16px;
    margin: 20px 0;
    align-items: center;
  }
  .places > div {
    border: 1px solid var(--rule);
    background: var(--sheet);
    padding: 12px 16px;
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
    padding: 20px 24px;
  }
  .answer {
    display: flex;
    gap: 10px;
    align-items: center;
    font-size: 22px;
    font-weight: 600;
    color: var(--inside);
    margin-bottom: 8px;
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
    margin: 8px 0;
  }
  th,
  td {
    padding: 2px 24px 2px 0;
    text-align: left;
    font-weight: 500;
  }
  thead th {
    color: var(--soft);
    font-size: 12.5px;
  }
  dl {
    display: grid;
    grid-template-columns: 160px 1fr;
    gap: 4px 16px;
    margin: 16px 0 0;
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
    font-size: 13.5px;
  }
</style>
