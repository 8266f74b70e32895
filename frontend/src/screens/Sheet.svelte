<script lang="ts">
  // The inspection sheet of a production: where it stands, its recordings by limits, and what can be done with them.
  import { createQuery } from '@tanstack/svelte-query';
  import { getContext } from 'svelte';
  import Button from '../components/Button.svelte';
  import DiskLine from '../components/DiskLine.svelte';
  import DropArea from '../components/DropArea.svelte';
  import LinkButton from '../components/LinkButton.svelte';
  import LotLine from '../components/LotLine.svelte';
  import Notes from '../components/Notes.svelte';
  import PackageLimits from '../components/PackageLimits.svelte';
  import Problem from '../components/Problem.svelte';
  import ScreenHead from '../components/ScreenHead.svelte';
  import SelectionBar from '../components/SelectionBar.svelte';
  import SheetTable from '../components/SheetTable.svelte';
  import SheetTools from '../components/SheetTools.svelte';
  import SheetTop from '../components/SheetTop.svelte';
  import StandingLine from '../components/StandingLine.svelte';
  import Undoable from '../components/Undoable.svelte';
  import type { Column } from '../lib/columns';
  import type { Dropped } from '../lib/dropped';
  import { size } from '../lib/format';
  import { meanings } from '../lib/methods';
  import * as productions from '../lib/server/productions';
  import * as specifications from '../lib/server/specifications';
  import { SheetActs } from '../lib/sheet-acts.svelte';
  import { SheetView, SHEET_KEYS } from '../lib/sheet-view.svelte';
  import { shortcuts } from '../lib/shortcuts.svelte';
  import type { Uploads } from '../lib/uploads.svelte';

  let { params }: { params: { id: string } } = $props();
  const uploads = getContext<Uploads>('uploads');
  const view = new SheetView();
  const sheet = createQuery(() => productions.sheet(params.id, view.sorting?.by, view.sorting?.down));
  const choices = createQuery(() => specifications.all());
  const acts = $derived(new SheetActs(params.id));
  const known = meanings();
  const columns: Column[] = $derived(
    (sheet.data?.columns ?? []).map((limit) => {
      const method = known.data?.quantities.get(limit.quantity);
      return { limit, method, title: method?.title ?? '', unit: method?.unit ?? '', decimals: method?.decimals ?? 1 };
    }),
  );
  const entries = $derived(sheet.data?.entries ?? []);
  const mine = $derived(uploads.list.filter((upload) => upload.wanted.productionId === params.id));
  const filters = $derived(
    view.filters(
      sheet.data?.standing ?? [],
      columns.map(({ limit, title }) => ({ quantity: limit.quantity, title })),
    ),
  );
  const show = $derived(filters.some(([key]) => key === view.show) ? view.show : 'all');
  const shown = $derived(view.filtered(entries, show));
  const chosen = $derived(entries.filter((entry) => view.chosen.has(entry.id)));
  const reference = $derived(sheet.data?.reference ?? null);
  /** Where those alone that are selected are conformed as one sound. */
  const whole = $derived.by(() => {
    const without = entries.filter((entry) => !view.chosen.has(entry.id)).map((entry) => entry.id);
    return `#/productions/${params.id}/whole?${reference ? `like=${reference}&` : ''}without=${without.join(',')}`;
  });
  let told = $state('');
  let spoken = $state('');
  shortcuts(() => ({ title: 'Sheet', list: SHEET_KEYS }));

  function replace({ files }: Dropped) {
    uploads.add(params.id, files, chosen[0]?.id);
    view.chosen.clear();
  }
  async function removeChosen() {
    const gone = chosen;
    view.chosen.clear();
    await acts.remove(gone);
  }
  let renaming = $state(false);
  let noting = $state(false);
  let measuringDisk = $state(false);
  let leftOut = $state<string[]>([]);
  function add({ files, leftOut: others }: Dropped) {
    leftOut = others;
    uploads.add(params.id, files);
  }
</script>

<svelte:head><title>{sheet.data?.name ?? 'Inspection sheet'} · Ispettore</title></svelte:head>
<DropArea ondrop={add} invitation="Drop recordings here to add them">
  <div class="page">
    {#if sheet.isError}
      <Problem query={sheet} />
    {:else if sheet.data?.erased}
      <ScreenHead title={sheet.data.name}>
        {#snippet way()}<a href="#/">Productions</a>{/snippet}
        {#snippet told()}This production was erased: its files are gone from the disk. Its
          <a href={`#/productions/${params.id}/record`}>record</a> and its <a href="#/certificates">certificates</a> are kept.{/snippet}
        {#snippet acts()}{/snippet}
      </ScreenHead>
    {:else if sheet.data}
      <SheetTop sheet={sheet.data} specifications={choices.data ?? []} {acts} bind:renaming onadd={add} />
      <StandingLine
        standing={sheet.data.standing}
        certified={sheet.data.certified}
        specification={sheet.data.specification.name}
        {show}
        onshow={(to) => (view.show = to)}
      />
      {#if sheet.data.removed}
        <p class="soft put-away">
          This production was removed. Its files and certificates are kept.
          <Button onclick={() => acts.restoreProduction()}>Restore</Button>
        </p>
      {:else if sheet.data.archived}
        <p class="soft put-away">
          This production is hidden. <Button onclick={() => acts.change({ archived: false })}>Restore</Button>
        </p>
      {/if}
      {#if noting || sheet.data.notes}
        <Notes notes={sheet.data.notes} onchange={(notes) => acts.change({ notes })} />
      {/if}
      <SheetTools
        sheet={sheet.data}
        {view}
        {filters}
        {show}
        count={shown.length}
        {acts}
        onrename={() => (renaming = true)}
        onnote={noting || sheet.data.notes ? undefined : () => (noting = true)}
        ondisk={() => (measuringDisk = !measuringDisk)}
      />
      {#if measuringDisk}
        <DiskLine production={params.id} acting={acts} onclose={() => (measuringDisk = false)} />
      {/if}
      {#if sheet.data.lot && sheet.data.lot.total > 1}
        <LotLine lot={sheet.data.lot} oncancel={() => acts.cancelAll()} />
      {/if}
      <Problem acting={acts} />
      <div role="status">
        <Undoable acting={acts} />
        {#if leftOut.length}
          <p class="note">
            Skipped (not audio): {leftOut.join(', ')}.
            <LinkButton onclick={() => (leftOut = [])}>Dismiss</LinkButton>
          </p>
        {/if}
      </div>
      <!-- What can be done with a selection comes first for whoever goes by keys, and is seen below. -->
      <div class="upside">
        <div class="foot" class:empty={!told && !chosen.length}>
          {#if chosen.length}
            <SelectionBar
              {chosen}
              formats={sheet.data.formats}
              acting={acts}
              {whole}
              {reference}
              onreference={(id) => acts.change({ reference: id ?? 'none' })}
              onreplace={replace}
              onremove={removeChosen}
              onclear={() => view.chosen.clear()}
            />
          {/if}
          <p class="told" aria-hidden="true">{told}</p>
          <p class="visually-hidden" aria-live="polite">{spoken}</p>
        </div>
        <div>
          <SheetTable
            sheet={sheet.data}
            {shown}
            {columns}
            {view}
            {acts}
            movable={shown.length === entries.length && !view.sorting && entries.length > 1}
            ontold={(statement, focused) => {
              told = statement;
              if (focused) spoken = statement;
            }}
          />
          <PackageLimits limits={sheet.data.whole} />
        </div>
      </div>
      {#if !entries.length && !mine.length}
        <p class="nothing">
          Drop recordings anywhere on this page, or use the button. Measuring starts automatically.{#if uploads.largest}
            The limit is {size(uploads.largest)}.{/if}
        </p>
      {/if}
    {/if}
  </div>
</DropArea>

<style>
  .page {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
  .put-away {
    margin-bottom: var(--space-5);
  }
  .nothing {
    color: var(--soft);
  }
  .nothing {
    text-align: center;
    padding: var(--space-8) 0;
  }
  .note {
    display: flex;
    gap: var(--space-5);
    align-items: center;
    font-size: var(--type-plain);
    margin-bottom: var(--space-4);
  }
  .upside {
    display: flex;
    flex-direction: column-reverse;
  }
  .foot {
    z-index: 2;
    position: sticky;
    bottom: 0;
    background: var(--paper);
  }
  .told {
    min-height: 28px;
    padding: var(--space-2) var(--space-5);
    font-size: var(--type-plain);
  }
  .foot.empty {
    background: none;
    pointer-events: none;
  }
  @media (max-width: 1240px) {
    .page {
      padding: var(--space-6) var(--space-5) var(--space-8);
    }
  }
</style>
