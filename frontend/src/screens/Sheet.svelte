<script lang="ts">
  // The inspection sheet of a production: where it stands, its recordings by limits, and what can be done with them.
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { getContext } from 'svelte';
  import Button from '../components/Button.svelte';
  import Choice from '../components/Choice.svelte';
  import DiskLine from '../components/DiskLine.svelte';
  import DropArea from '../components/DropArea.svelte';
  import FileButton from '../components/FileButton.svelte';
  import LinkButton from '../components/LinkButton.svelte';
  import NameHeading from '../components/NameHeading.svelte';
  import PackageLimits from '../components/PackageLimits.svelte';
  import LotLine from '../components/LotLine.svelte';
  import Question from '../components/Question.svelte';
  import SelectionBar from '../components/SelectionBar.svelte';
  import SheetTable from '../components/SheetTable.svelte';
  import StandingLine from '../components/StandingLine.svelte';
  import { Acting } from '../lib/acting.svelte';
  import { answer, api, type SheetView as Sheet } from '../lib/api';
  import type { Column } from '../lib/columns';
  import type { Dropped } from '../lib/dropped';
  import { counted, size } from '../lib/format';
  import { meanings } from '../lib/methods';
  import { shortcuts } from '../lib/shortcuts.svelte';
  import { SheetView } from '../lib/sheet-view.svelte';
  import type { Uploads } from '../lib/uploads.svelte';
  import Problem from '../components/Problem.svelte';

  let { params }: { params: { id: string } } = $props();
  const uploads = getContext<Uploads>('uploads');
  const view = new SheetView();
  const path = $derived({ params: { path: { production_id: params.id } } });
  const sheet = createQuery(() => ({
    queryKey: ['sheet', params.id, view.sorting?.by ?? '', view.sorting?.down ?? false],
    placeholderData: (before: Sheet | undefined) => (before?.id === params.id ? before : undefined),
    queryFn: async () => {
      const query = { by: view.sorting?.by ?? '', down: view.sorting?.down ?? false };
      const found = await api.GET('/api/productions/{production_id}/sheet', {
        params: { ...path.params, query },
      });
      return answer(found);
    },
  }));
  const specifications = createQuery(() => ({
    queryKey: ['specifications'],
    queryFn: async () => answer(await api.GET('/api/specifications')),
  }));
  // One that was removed since is still what this production uses.
  const choices = $derived.by(() => {
    const held = sheet.data?.specification;
    const every = specifications.data ?? [];
    return held && !every.some(({ id }) => id === held.id) ? [...every, held] : every;
  });
  const acting = new Acting(useQueryClient());
  const attempt = acting.attempt.bind(acting);

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
  let told = $state('');
  let spoken = $state('');
  shortcuts(() => ({
    title: 'Sheet',
    list: [
      { keys: [], shown: '← → ↑ ↓', does: 'move between cells' },
      { keys: [], shown: 'Home, End', does: 'first or last cell of the row' },
      { keys: [], shown: 'Page ↑ ↓', does: 'ten rows up or down' },
      { keys: [], shown: 'Space', does: 'select the recording' },
      { keys: [], shown: 'Enter', does: 'open the recording' },
      { keys: [], shown: 'F2', does: 'into the cell, and Esc out of it' },
      { keys: [], shown: '↑ ↓', does: 'on a row’s handle: move the recording' },
    ],
  }));

  function replace({ files }: Dropped) {
    uploads.add(params.id, files, chosen[0]?.id);
    view.chosen.clear();
  }
  async function removeChosen() {
    const gone = chosen;
    view.chosen.clear();
    await acting.remove(gone);
  }
  async function orderByName() {
    const before = answer(await api.GET('/api/productions/{production_id}/sheet', path)).entries.map(({ id }) => id);
    await acting.undoably(
      'Reordered by name.',
      async () => answer(await api.POST('/api/productions/{production_id}/order-by-name', path)),
      async () =>
        answer(await api.PUT('/api/productions/{production_id}/order', { ...path, body: { recordings: before } })),
    );
  }

  interface Changed {
    specification_id?: string;
    specification_version?: number;
    name?: string;
    notes?: string;
    archived?: boolean;
    reference?: string;
  }
  const put = async (body: Changed) => answer(await api.PATCH('/api/productions/{production_id}', { ...path, body }));
  const change = (body: Changed) => attempt(() => put(body));
  function changeSpecification(to: string) {
    const { id, version } = sheet.data?.specification ?? {};
    const name = specifications.data?.find((one) => one.id === to)?.name ?? to;
    return acting.undoably(
      `Specification changed to ${name}.`,
      () => put({ specification_id: to }),
      () => put({ specification_id: id, specification_version: version }),
    );
  }
  let removing: HTMLDialogElement | undefined = $state();
  const mark = (way: '/api/productions/{production_id}/remove' | '/api/productions/{production_id}/restore') =>
    attempt(async () => answer(await api.POST(way, path)));
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
    {:else if sheet.data}
      <div class="top">
        <div>
          <NameHeading
            name={sheet.data.name}
            label="Name of the production"
            bind:renaming
            onrename={(name) => change({ name })}
          />
        </div>
        <div class="acts">
          <Choice
            label="Specification"
            value={sheet.data.specification.id}
            options={choices.map(({ id, name }) => [id, name])}
            onchange={changeSpecification}
          />
          {#if sheet.data.measured > 1}<a class="whole" href={`#/productions/${params.id}/consistency`}>Consistency</a
            >{/if}
          {#if sheet.data.measured > 1}<a
              class="whole"
              href={`#/productions/${params.id}/whole${sheet.data.reference ? `?like=${sheet.data.reference}` : ''}`}
              >Conform all…</a
            >{/if}
          {#if sheet.data.measured}<a class="whole" href={`#/productions/${params.id}/deliver`}>Deliver…</a>{/if}
          <a class="whole" href={`#/productions/${params.id}/record`}>Record</a>
          <FileButton label="Folder to add" folder onchosen={add}>Add folder</FileButton>
          <FileButton label="Recordings to add" strong multiple onchosen={add}>Add recordings</FileButton>
        </div>
      </div>
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
          <Button onclick={() => mark('/api/productions/{production_id}/restore')}>Restore</Button>
        </p>
      {:else if sheet.data.archived}
        <p class="soft put-away">
          This production is hidden. <Button onclick={() => change({ archived: false })}>Restore</Button>
        </p>
      {/if}
      {#if noting || sheet.data.notes}
        <label class="notes">
          Notes
          <textarea
            rows={Math.min(6, Math.max(2, sheet.data.notes.split('\n').length))}
            maxlength="20000"
            value={sheet.data.notes}
            onchange={(event) => change({ notes: event.currentTarget.value })}></textarea>
        </label>
      {/if}
      <div class="more">
        {#if entries.length > 1}
          <label class="find">Find <input type="search" bind:value={view.search} maxlength="120" /></label>
          <label class="find"
            >Show
            <select value={show} onchange={(event) => (view.show = event.currentTarget.value)}>
              {#each filters as [key, words] (key)}<option value={key}>{words}</option>{/each}
            </select></label
          >
          <span class="soft" role="status"
            >{shown.length < entries.length ? `${shown.length} of ${entries.length} shown` : ''}</span
          >
        {/if}
        <span class="links">
          <LinkButton onclick={() => (renaming = true)}>Rename</LinkButton>
          {#if !noting && !sheet.data.notes}<LinkButton onclick={() => (noting = true)}>Add notes</LinkButton>{/if}
          {#if !sheet.data.archived && !sheet.data.removed}
            <LinkButton label="Hide production" onclick={() => change({ archived: true })}>Hide</LinkButton>
          {/if}
          {#if !sheet.data.removed}
            <LinkButton label="Remove production" onclick={() => removing?.showModal()}>Remove</LinkButton>
          {/if}
          {#if entries.length > 1}<LinkButton onclick={orderByName}>Reorder by name</LinkButton>{/if}
          <a href={`#/specifications/${sheet.data.specification.id}`}>View specification</a>
          {#if entries.length}<LinkButton onclick={() => (measuringDisk = !measuringDisk)}>Disk use</LinkButton>
            <a href={`/api/productions/${params.id}/sheet.csv`} download>Sheet as CSV</a><a
              href={`/api/productions/${params.id}/sheet.pdf`}
              download>Sheet as PDF</a
            >{/if}
        </span>
      </div>
      <Question
        bind:element={removing}
        title={`Remove ${sheet.data.name}`}
        meaning={`${counted(entries.length, 'recording')} and everything made from them are removed with it. You can restore it under Removed, on the productions page; certificates that were handed out stay valid.`}
        act="Remove production"
        onact={() => {
          removing?.close();
          void mark('/api/productions/{production_id}/remove');
        }}
      />
      {#if measuringDisk}<DiskLine production={params.id} {acting} onclose={() => (measuringDisk = false)} />{/if}
      {#if sheet.data.lot && sheet.data.lot.total > 1}
        <LotLine
          lot={sheet.data.lot}
          oncancel={() => attempt(async () => answer(await api.POST('/api/productions/{production_id}/cancel', path)))}
        />
      {/if}
      <Problem {acting} />
      <div role="status">
        {#if acting.done}
          <p class="note">
            {acting.done.said}
            <Button onclick={() => acting.undo()}>Undo</Button>
          </p>
        {/if}
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
              {acting}
              whole={`#/productions/${params.id}/whole?${sheet.data.reference ? `like=${sheet.data.reference}&` : ''}without=${entries
                .filter((entry) => !view.chosen.has(entry.id))
                .map((entry) => entry.id)
                .join(',')}`}
              reference={sheet.data.reference}
              onreference={(id) => change({ reference: id ?? 'none' })}
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
            {acting}
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
    padding: 20px 24px 40px;
  }
  .top {
    flex-wrap: wrap;
    display: flex;
    justify-content: space-between;
    align-items: end;
    gap: 24px;
    margin-bottom: 4px;
  }
  .acts {
    flex-wrap: wrap;
    display: flex;
    gap: 16px;
    align-items: end;
  }
  .more {
    flex-wrap: wrap;
    display: flex;
    gap: 18px;
    align-items: baseline;
    font-size: 13px;
    margin: 8px 0;
  }
  .links {
    align-items: baseline;
    flex-wrap: wrap;
    display: flex;
    gap: 18px;
    margin-left: auto;
  }
  .find {
    display: flex;
    gap: 6px;
    align-items: baseline;
    color: var(--soft);
  }
  .find :is(input, select) {
    font: inherit;
    color: var(--ink);
    background: var(--sheet);
    border: 1px solid var(--soft);
    border-radius: 3px;
    padding: 2px 6px;
  }
  .find input {
    width: 150px;
  }
  .put-away {
    margin-bottom: 12px;
  }
  .notes {
    display: grid;
    gap: 3px;
    font-size: 12.5px;
    color: var(--soft);
    margin-bottom: 14px;
  }
  textarea {
    font: inherit;
    font-size: 14px;
    color: var(--ink);
    background: var(--sheet);
    border: 1px solid var(--soft);
    padding: 6px 8px;
    resize: vertical;
  }
  .soft,
  .nothing {
    color: var(--soft);
  }
  .nothing {
    text-align: center;
    padding: 60px 0;
  }
  .note {
    display: flex;
    gap: 14px;
    align-items: center;
    font-size: 14px;
    margin-bottom: 8px;
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
    padding: 4px 14px;
    font-size: 13.5px;
  }
  .foot.empty {
    background: none;
    pointer-events: none;
  }
  @media (max-width: 1240px) {
    .page {
      padding: 16px 14px 32px;
    }
  }
</style>
