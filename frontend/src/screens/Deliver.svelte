<script lang="ts">
  // Delivering a production: as what its files are written, named and tagged; making them; handing them over.
  import Across from '../components/Across.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { SvelteSet } from 'svelte/reactivity';
  import Button from '../components/Button.svelte';
  import CertifyWhole from '../components/CertifyWhole.svelte';
  import DeliverRow from '../components/DeliverRow.svelte';
  import DeliverSettings from '../components/DeliverSettings.svelte';
  import HandedOver from '../components/HandedOver.svelte';
  import HandIn from '../components/HandIn.svelte';
  import LinkButton from '../components/LinkButton.svelte';
  import PackageLimits from '../components/PackageLimits.svelte';
  import LotLine from '../components/LotLine.svelte';
  import PasteTitles from '../components/PasteTitles.svelte';
  import ScreenHead from '../components/ScreenHead.svelte';
  import SheetBlock from '../components/SheetBlock.svelte';
  import { Acting } from '../lib/acting.svelte';
  import { Delivering } from '../lib/delivering.svelte';
  import { counted, size } from '../lib/format';
  import * as productions from '../lib/server/productions';
  import Problem from '../components/Problem.svelte';

  let { params }: { params: { id: string } } = $props();
  const BLOCK = 40;
  const COLUMNS = 13;
  const query = createQuery(() => productions.delivery(params.id));
  const view = $derived(query.data);
  const acting = new Acting();
  const delivering = $derived(new Delivering(acting, params.id));
  const rows = $derived(view?.rows ?? []);
  const blocks = $derived(
    Array.from({ length: Math.ceil(rows.length / BLOCK) }, (_, at) => rows.slice(at * BLOCK, (at + 1) * BLOCK)),
  );
  const chosen = new SvelteSet<string>();
  const picked = $derived(chosen.size ? rows.filter((row) => chosen.has(row.recording)) : rows);
  const toMake = $derived(
    picked.filter(
      // What came to nothing is tried again where somebody selects it.
      (row) => row.state === 'to make' || row.state === 'to make again' || (chosen.size > 0 && row.state === 'stuck'),
    ),
  );
  const made = $derived(picked.filter((row) => row.state === 'made'));
  const wrong = $derived(picked.filter((row) => row.problem).length);
  const total = $derived(made.reduce((sum, row) => sum + (row.size_bytes ?? 0), 0));
  const some = $derived(chosen.size ? made.map((row) => row.recording) : null);
  const zip = $derived(`/api/productions/${params.id}/package.zip${some ? `?of=${some.join(',')}` : ''}`);
  let dialog: HTMLDialogElement | undefined = $state();
  let desk: HTMLDialogElement | undefined = $state();
  let table = $state('');
  function openPaste(text: string) {
    acting.problem = '';
    table = text;
    dialog?.showModal();
  }
  async function paste(text: string) {
    const before = rows.map((row) => ({ recording: row.recording, entry: row.from_name ? null : row.entry }));
    if (await delivering.paste(text, before)) dialog?.close();
  }
</script>

<svelte:head><title>Deliver {view?.name ?? ''} · Ispettore</title></svelte:head>
<main>
  {#if query.isError}
    <Problem {query} />
  {:else if view}
    <ScreenHead title="Deliver">
      {#snippet way()}<a href={`#/productions/${params.id}`}>{view.name}</a>{/snippet}
      {#snippet told()}{view.made} of {counted(rows.length, 'file')} ready and certified for {view.specification_name}{view.made
          ? `, ${size(view.size_bytes)}`
          : ''}.{/snippet}
      {#snippet acts()}{#if chosen.size}<span class="soft">{chosen.size} selected</span>
          <LinkButton onclick={() => chosen.clear()}>Clear selection</LinkButton>{/if}
        {#if toMake.length}
          <Button
            strong
            disabled={wrong > 0 || Boolean(view.problem)}
            onclick={() => delivering.make(toMake.map((row) => row.recording))}
            >Make {counted(toMake.length, 'file')}</Button
          >
        {/if}
        {#if made.length}
          <a class="zip" class:strong={!toMake.length} href={zip} download
            >Download {chosen.size || made.length < rows.length ? made.length : 'all'} as ZIP, {size(total)}</a
          >
          <Button onclick={() => delivering.toFolder(some)}>Write to a folder</Button>
          {#if view.desk}<Button onclick={() => desk?.showModal()}>Hand in…</Button>{/if}
        {/if}{/snippet}
    </ScreenHead>
    {#if wrong}<p class="wrong" role="alert">
        {counted(wrong, 'name')} can’t be used; nothing is made until {wrong === 1 ? 'it is' : 'they are'} changed.
      </p>{/if}
    {#if !dialog?.open && !desk?.open}<Problem {acting} />{/if}
    {#if view.lot && view.lot.total > 1}<LotLine lot={view.lot} oncancel={() => void delivering.cancel()} />{/if}
    <DeliverSettings {view} {delivering} />
    <PackageLimits limits={view.whole} all />
    <CertifyWhole production={view.id} by={view.asked.certified_by ?? ''} {acting} {delivering} />
    <p class="links">
      <LinkButton onclick={() => openPaste('')}>Paste titles…</LinkButton>
      {#if rows.some((row) => !row.from_name)}
        <LinkButton onclick={() => void delivering.set(rows.map((row) => ({ recording: row.recording, entry: null })))}
          >Titles from file names</LinkButton
        >
      {/if}
      <span role="status"
        >{#if delivering.before}{counted(delivering.pasted, 'row')} changed. <LinkButton
            onclick={() => void delivering.undo()}>Undo</LinkButton
          >{/if}</span
      >
    </p>
    <Across label="Files, scrolls sideways">
      <table>
        <caption class="visually-hidden">Files of {view.name}</caption>
        <thead>
          <tr>
            <th class="pick"
              ><input
                type="checkbox"
                aria-label="Select all"
                checked={chosen.size === rows.length && rows.length > 0}
                onchange={(event) => {
                  chosen.clear();
                  if (event.currentTarget.checked) for (const row of rows) chosen.add(row.recording);
                }}
              /></th
            >
            <th scope="col">Kind</th><th scope="col">No.</th><th scope="col">Part</th><th scope="col">Title</th><th
              scope="col">Narrator</th
            >
            <th scope="col">File name</th><th scope="col">Certificate</th>
            <th scope="col" class="figure" title="RMS level, finished file minus master, in dB">Level</th>
            <th scope="col" class="figure" title="True peak, finished file minus master, in dB">Peak</th>
            <th scope="col" class="figure" title="Noise floor, finished file minus master, in dB">Noise</th>
            <th scope="col" class="figure" title="Length, finished file minus master, in samples">Length</th>
            <th scope="col" class="figure">Size</th>
          </tr>
        </thead>
        {#each blocks as some, at (at)}
          <SheetBlock count={some.length} columns={COLUMNS} first={at === 0} held={false}>
            {#each some as row (row.recording)}
              <DeliverRow
                {row}
                narrator={view.asked.labels?.narrator ?? ''}
                {delivering}
                {acting}
                chosen={chosen.has(row.recording)}
                onchosen={(wanted) => (wanted ? chosen.add(row.recording) : chosen.delete(row.recording))}
                onlines={openPaste}
              />
            {/each}
          </SheetBlock>
        {/each}
      </table>
    </Across>
    <p class="foot soft">
      Level, peak, noise: what encoding changed, in dB; length in samples. Each file was decoded with its tags and
      measured before it was certified.
    </p>
    {#if view.deliveries.length}<HandedOver notes={view.deliveries} {acting} />{/if}
    <HandIn
      bind:element={desk}
      count={made.length}
      problem={acting.problem}
      onchosen={async (requirements) => {
        await delivering.handIn(some, requirements);
        if (!acting.problem) desk?.close();
      }}
    />
    <PasteTitles
      bind:element={dialog}
      bind:text={table}
      count={rows.length}
      problem={acting.problem}
      onpaste={(text) => void paste(text)}
    />
  {/if}
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
  .zip {
    border: 1px solid var(--act);
    border-radius: 3px;
    padding: var(--space-2) var(--space-5);
    font-weight: 550;
    text-decoration: none;
    white-space: nowrap;
  }
  .zip.strong {
    background: var(--act);
    color: var(--sheet);
  }
  .wrong {
    color: var(--outside);
    margin: var(--space-3) 0;
  }
  .links {
    display: flex;
    gap: var(--space-6);
    font-size: var(--type-small);
    margin-bottom: var(--space-3);
  }
  table {
    width: 100%;
    border-collapse: collapse;
    background: var(--sheet);
    border: 1px solid var(--rule);
  }
  table :global(:is(th, td)) {
    text-align: left;
    padding: var(--space-2) var(--space-3);
    border-bottom: 1px solid var(--rule);
    vertical-align: middle;
    font-weight: 400;
    font-size: var(--type-plain);
  }
  thead th {
    font-size: var(--type-fine);
    color: var(--soft);
    padding: var(--space-3) var(--space-3);
  }
  thead .pick {
    padding-left: var(--space-5);
  }
  thead .figure {
    text-align: right;
  }
  .foot {
    font-size: var(--type-small);
    margin-top: var(--space-3);
  }
</style>
