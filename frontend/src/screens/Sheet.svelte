<script lang="ts">
  // The inspection sheet: recordings by limits, the production as a whole in the last row.
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { getContext } from 'svelte';
  import Button from '../components/Button.svelte';
  import Choice from '../components/Choice.svelte';
  import DropArea from '../components/DropArea.svelte';
  import FileButton from '../components/FileButton.svelte';
  import LotLine from '../components/LotLine.svelte';
  import LinkButton from '../components/LinkButton.svelte';
  import Progress from '../components/Progress.svelte';
  import SelectionBar from '../components/SelectionBar.svelte';
  import SheetFoot from '../components/SheetFoot.svelte';
  import SheetHead from '../components/SheetHead.svelte';
  import SheetRow from '../components/SheetRow.svelte';
  import { Acting } from '../lib/acting.svelte';
  import { answer, api, type Recording } from '../lib/api';
  import { cellKeys } from '../lib/cell-keys';
  import type { Dropped } from '../lib/dropped';
  import { size } from '../lib/format';
  import { meanings } from '../lib/methods';
  import { SheetView } from '../lib/sheet-view.svelte';
  import { matches, unfinished, type Upload, type Uploads } from '../lib/uploads.svelte';

  let { params }: { params: { id: string } } = $props();
  const uploads = getContext<Uploads>('uploads');
  const client = useQueryClient();
  const sheet = createQuery(() => ({
    queryKey: ['production', params.id],
    queryFn: async () =>
      answer(await api.GET('/api/productions/{production_id}', { params: { path: { production_id: params.id } } })),
  }));
  const specifications = createQuery(() => ({
    queryKey: ['specifications'],
    queryFn: async () => answer(await api.GET('/api/specifications')),
  }));
  const acting = new Acting(client);
  const attempt = acting.attempt.bind(acting);

  const columns = $derived(sheet.data?.columns ?? []);
  const known = meanings();
  const quantities = $derived(
    columns.map((limit) => {
      const method = known.data?.quantities.get(limit.quantity);
      return { limit, method, title: method?.title ?? '', unit: method?.unit ?? '', decimals: method?.decimals ?? 1 };
    }),
  );
  const judged = $derived((sheet.data?.recordings ?? []).filter((row) => row.verdict));
  const inside = $derived(judged.filter((row) => row.verdict?.passes).length);
  const mine = $derived(uploads.list.filter((upload) => upload.wanted.productionId === params.id));

  const view = new SheetView();
  const rows = $derived((sheet.data?.recordings ?? []) as Recording[]);
  const filters = $derived([
    ['all', 'all recordings'] as const,
    ['outside', 'outside only'] as const,
    ...quantities.map(({ limit, title }) => [limit.quantity, `outside by ${title}`] as const),
  ]);
  // Another specification may not have the limit that was asked for.
  const show = $derived(filters.some(([key]) => key === view.show) ? view.show : 'all');
  const shown = $derived(view.filtered(rows, show));
  const chosen = $derived(rows.filter((row) => view.chosen.has(row.id)));
  $effect(() => {
    if (sheet.data) view.drawRest();
  });
  const apart = $derived.by(() => {
    const found: Record<string, Record<string, number>> = {};
    for (const spread of sheet.data?.spreads ?? [])
      for (const one of spread.outliers) {
        const row = judged[one.index];
        if (row) (found[row.id] ??= {})[spread.quantity] = one.off;
      }
    return found;
  });
  const NONE: Record<string, number> = {};
  let told = $state('');
  const pointedAt = cellKeys((statement) => (told = statement));

  function replace({ files }: Dropped) {
    uploads.add(params.id, files, chosen[0]?.id);
    view.chosen.clear();
  }
  async function removeChosen() {
    const gone = chosen;
    view.chosen.clear();
    await acting.remove(gone);
  }

  // Rows are put in order by dragging their handle, or by the arrow keys on it.
  let carried = $state('');
  const path = $derived({ params: { path: { production_id: params.id } } });
  async function move(id: string, to: number) {
    const order = (sheet.data?.recordings ?? []).map((row) => row.id);
    const from = order.indexOf(id);
    if (from < 0 || to < 0 || to >= order.length || to === from) return;
    order.splice(to, 0, ...order.splice(from, 1));
    await attempt(async () =>
      answer(await api.PUT('/api/productions/{production_id}/order', { ...path, body: { recordings: order } })),
    );
    document.querySelector<HTMLElement>(`[data-handle="${id}"]`)?.focus();
  }
  const indexOf = (id: string) => sheet.data?.recordings.findIndex((row) => row.id === id) ?? -1;
  const orderByName = () =>
    attempt(async () => answer(await api.POST('/api/productions/{production_id}/order-by-name', path)));

  const change = (body: { specification_id?: string; name?: string; notes?: string; archived?: boolean }) =>
    attempt(async () => answer(await api.PATCH('/api/productions/{production_id}', { ...path, body })));
  let renaming = $state(false);
  let noting = $state(false);
  async function rename(event: Event & { currentTarget: HTMLInputElement }) {
    const name = event.currentTarget.value;
    renaming = false;
    if (name !== sheet.data?.name) await change({ name });
  }

  const stageOf = (upload: Upload) =>
    upload.state === 'waiting' ? 'waiting to be sent' : upload.fraction < 1 ? 'bringing in' : 'being put away';
  let leftOut = $state<string[]>([]);
  function add({ files, leftOut: others }: Dropped) {
    leftOut = others;
    uploads.add(params.id, files);
  }
  const parts = createQuery(() => ({
    queryKey: ['unfinished', params.id],
    queryFn: () => unfinished(params.id),
  }));
  // What came in part before this page was opened, and is not on its way again.
  const waiting = $derived((parts.data ?? []).filter((part) => !mine.some((upload) => matches(part, upload))));
</script>

<svelte:head><title>{sheet.data?.name ?? 'Inspection sheet'} · Ispettore</title></svelte:head>
<DropArea ondrop={add} invitation="Drop recordings here to bring them in">
  <div class="page">
    {#if sheet.isError}
      <p role="alert">{sheet.error.message}</p>
    {:else if sheet.data}
      <div class="top">
        <div>
          {#if renaming}
            <input
              class="name"
              aria-label="Name of the production"
              value={sheet.data.name}
              maxlength="120"
              {@attach (field) => {
                field.focus();
                field.select();
              }}
              onchange={rename}
              onblur={() => (renaming = false)}
              onkeydown={(event) => {
                if (event.key === 'Enter') event.currentTarget.blur();
                if (event.key === 'Escape') {
                  event.currentTarget.value = sheet.data?.name ?? '';
                  renaming = false;
                }
              }}
            />
          {:else}
            <h1>{sheet.data.name}</h1>
          {/if}
          <p class="summary">
            {sheet.data.recordings.length}
            {sheet.data.recordings.length === 1 ? 'recording' : 'recordings'}: <b class="inside">{inside} inside</b>,
            <b class:outside={judged.length - inside > 0}>{judged.length - inside} outside</b
            >{#if judged.length < sheet.data.recordings.length}, {sheet.data.recordings.length - judged.length} not measured{/if}
          </p>
        </div>
        <div class="acts">
          {#if judged.length > 1}
            <Choice label="Show" value={show} options={filters} onchange={(to) => (view.show = to)} />
          {/if}
          <Choice
            label="Held against"
            value={sheet.data.specification.id}
            options={(specifications.data ?? [sheet.data.specification]).map(({ id, name }) => [id, name])}
            onchange={(to) => change({ specification_id: to })}
          />
          {#if judged.length > 1}<a class="whole" href={`#/productions/${params.id}/whole`}>Conform all…</a>{/if}
          <FileButton label="Folder to bring in" folder onchosen={add}>Bring in a folder</FileButton>
          <FileButton label="Recordings to bring in" strong multiple onchosen={add}>Bring in recordings</FileButton>
        </div>
      </div>
      {#if sheet.data.archived}
        <p class="soft put-away">
          This production is archived. <Button onclick={() => change({ archived: false })}>Bring it back</Button>
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
      <p class="more">
        <LinkButton onclick={() => (renaming = true)}>Rename</LinkButton>
        {#if !noting && !sheet.data.notes}<LinkButton onclick={() => (noting = true)}>Add notes</LinkButton>{/if}
        {#if !sheet.data.archived}<LinkButton onclick={() => change({ archived: true })}>Archive</LinkButton>{/if}
        {#if show !== 'all'}<span class="soft">{shown.length} of {sheet.data.recordings.length} shown</span>{/if}
        {#if sheet.data.recordings.length > 1}<LinkButton onclick={orderByName}>Order by name</LinkButton>{/if}
        <a href={`#/specifications/${sheet.data.specification.id}`}>What the limits ask</a>
        {#if sheet.data.recordings.length}<a href={`/api/productions/${params.id}/sheet.csv`} download>Sheet as CSV</a
          ><a href={`/api/productions/${params.id}/sheet.pdf`} download>Sheet as PDF</a>{/if}
      </p>
      {#if sheet.data.lot && sheet.data.lot.total > 1}
        <LotLine
          lot={sheet.data.lot}
          oncancel={() => attempt(async () => answer(await api.POST('/api/productions/{production_id}/cancel', path)))}
        />
      {/if}
      {#if acting.problem}<p class="problem" role="alert">{acting.problem}</p>{/if}
      {#if acting.removed.length}
        <p class="note" role="status">
          Removed {acting.removed.length === 1 ? acting.removed[0]?.name : `${acting.removed.length} recordings`}; the
          files and what was measured are kept.
          <Button onclick={() => acting.bringBack()}>Undo</Button>
        </p>
      {/if}
      {#if leftOut.length}
        <p class="note" role="status">
          Left out of the folder, as {leftOut.length === 1 ? 'it holds' : 'they hold'} no sound: {leftOut.join(', ')}.
          <LinkButton onclick={() => (leftOut = [])}>Dismiss</LinkButton>
        </p>
      {/if}
      <table {@attach pointedAt}>
        <caption class="visually-hidden">Inspection sheet of {sheet.data.name}</caption>
        <SheetHead columns={quantities} {view} {shown} />
        <tbody>
          {#each shown.slice(0, view.drawn) as row, place (row.id)}
            <SheetRow
              {row}
              {quantities}
              {acting}
              first={place === 0}
              chosen={view.chosen.has(row.id)}
              onchosen={(wanted, span) => view.choose(shown, row.id, wanted, span)}
              apart={apart[row.id] ?? NONE}
              movable={show === 'all' && !view.sorting && rows.length > 1}
              {carried}
              oncarry={(id) => (carried = id)}
              ondropped={() => move(carried, indexOf(row.id))}
              onstep={(step) => move(row.id, indexOf(row.id) + step)}
            />
          {/each}
          {#each mine as upload (upload.key)}
            <tr>
              <th scope="row" class="first">{upload.name}<span class="facts">{size(upload.size)}</span></th>
              <td colspan={quantities.length + 2}>
                {#if upload.state === 'failed'}
                  <span class="failed" role="alert">{upload.error}</span>
                  <Button onclick={() => uploads.retry(upload)}>Try again</Button>
                  <Button onclick={() => uploads.dismiss(upload)}>Dismiss</Button>
                {:else}
                  <Progress
                    stage={stageOf(upload)}
                    fraction={upload.fraction}
                    about={upload.name}
                    oncancel={() => uploads.cancel(upload)}
                  />
                {/if}
              </td>
            </tr>
          {/each}
          {#each waiting as part (part.id)}
            <tr data-part={part.name}>
              <th scope="row" class="first">{part.name}<span class="facts">{size(part.size_bytes)}</span></th>
              <td colspan={quantities.length + 1}
                >{Math.floor((100 * part.received_bytes) / part.size_bytes)} % came in before it was broken off. Drop or choose
                the file again to go on from there.</td
              >
              <td
                ><Button label={`Forget ${part.name}`} onclick={() => attempt(() => uploads.forget(part))}
                  >Forget</Button
                ></td
              >
            </tr>
          {/each}
        </tbody>
        {#if sheet.data.whole.length || sheet.data.spreads.length}
          <SheetFoot
            quantities={quantities.map((column) => column.limit.quantity)}
            whole={sheet.data.whole}
            spreads={sheet.data.spreads}
          />
        {/if}
      </table>
      <div class="foot" class:empty={!told && !chosen.length}>
        {#if chosen.length}
          <SelectionBar
            {chosen}
            formats={sheet.data.formats}
            {acting}
            whole={`#/productions/${params.id}/whole?without=${rows
              .filter((row) => !view.chosen.has(row.id))
              .map((row) => row.id)
              .join(',')}`}
            onreplace={replace}
            onremove={removeChosen}
            onclear={() => view.chosen.clear()}
          />
        {/if}
        <p class="told" aria-live="polite">{told}</p>
      </div>
      {#if !sheet.data.recordings.length && !mine.length}
        <p class="nothing">
          Drop recordings anywhere on this page, or bring them in with the button. Each is measured at once.{#if uploads.largest}
            A file may hold up to {size(uploads.largest)}.{/if}
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
    display: flex;
    justify-content: space-between;
    align-items: end;
    gap: 24px;
    margin-bottom: 16px;
  }
  .summary {
    color: var(--soft);
  }
  b {
    font-weight: 550;
  }
  .inside {
    color: var(--inside);
  }
  .outside {
    color: var(--outside);
  }
  .acts {
    display: flex;
    gap: 16px;
    align-items: end;
  }
  .more {
    display: flex;
    gap: 18px;
    justify-content: end;
    font-size: 13px;
    margin: -8px 0 8px;
  }
  .name {
    font-size: 24px;
    font-weight: 600;
    letter-spacing: -0.01em;
    min-width: 420px;
    padding: 0 6px;
    margin: 0 0 3px -7px;
    border: 1px solid var(--soft);
    background: var(--sheet);
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
    border: 1px solid var(--rule);
    padding: 6px 8px;
    resize: vertical;
  }
  .problem,
  .failed {
    color: var(--outside);
  }
  table {
    width: 100%;
    border-collapse: collapse;
    background: var(--sheet);
    border: 1px solid var(--rule);
  }
  table :global(:is(th, td)) {
    text-align: left;
    padding: 9px 8px;
    border-bottom: 1px solid var(--rule);
    vertical-align: middle;
    font-weight: 400;
  }
  table :global(.first) {
    padding-left: 14px;
    min-width: 226px;
  }
  .facts {
    display: block;
    font-size: 12px;
    font-weight: 400;
    color: var(--soft);
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
  .foot {
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
    table :global(:is(th, td)) {
      padding: 8px 4px;
    }
    table :global(.first) {
      min-width: 130px;
      padding-left: 10px;
    }
    table :global(td > svg) {
      width: 84px;
    }
  }
</style>
