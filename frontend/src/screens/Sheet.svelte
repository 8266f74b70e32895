<script lang="ts">
  // The inspection sheet: recordings by limits, the production as a whole in the last row.
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { getContext } from 'svelte';
  import Button from '../components/Button.svelte';
  import Choice from '../components/Choice.svelte';
  import DropArea from '../components/DropArea.svelte';
  import Explained from '../components/Explained.svelte';
  import LimitCell from '../components/LimitCell.svelte';
  import Progress from '../components/Progress.svelte';
  import SheetRow from '../components/SheetRow.svelte';
  import { Acting } from '../lib/acting.svelte';
  import { answer, api, type Recording } from '../lib/api';
  import { bounds, size } from '../lib/format';
  import { meanings } from '../lib/methods';
  import type { Uploads } from '../lib/uploads.svelte';

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
  let chooser: HTMLInputElement | undefined = $state();

  const columns = $derived(
    (sheet.data?.specification.limits ?? []).filter((limit) => limit.applies_to === 'recording'),
  );
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

  let wanted = $state('all');
  const outside = (row: Pick<Recording, 'verdict'>, quantity: string) =>
    row.verdict?.limits.some((limit) => limit.quantity === quantity && !limit.passes) ?? false;
  const filters = $derived([
    ['all', 'all recordings'] as const,
    ['outside', 'outside only'] as const,
    ...quantities.map(({ limit, title }) => [limit.quantity, `outside by ${title}`] as const),
  ]);
  // Another specification may not have the limit that was asked for.
  const show = $derived(filters.some(([key]) => key === wanted) ? wanted : 'all');
  const shown = $derived(
    (sheet.data?.recordings ?? []).filter(
      (row) => show === 'all' || (show === 'outside' ? row.verdict && !row.verdict.passes : outside(row, show)),
    ),
  );

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

  const add = (files: File[]) => uploads.add(params.id, files);
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
            <Choice label="Show" value={show} options={filters} onchange={(to) => (wanted = to)} />
          {/if}
          <Choice
            label="Held against"
            value={sheet.data.specification.id}
            options={(specifications.data ?? [sheet.data.specification]).map(({ id, name }) => [id, name])}
            onchange={(to) => change({ specification_id: to })}
          />
          <input
            class="visually-hidden"
            type="file"
            multiple
            aria-label="Recordings to bring in"
            tabindex="-1"
            bind:this={chooser}
            onchange={(event) => {
              add([...(event.currentTarget.files ?? [])]);
              event.currentTarget.value = '';
            }}
          />
          <Button strong onclick={() => chooser?.click()}>Bring in recordings</Button>
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
        <button type="button" class="plain" onclick={() => (renaming = true)}>Rename</button>
        {#if !noting && !sheet.data.notes}<button type="button" class="plain" onclick={() => (noting = true)}
            >Add notes</button
          >{/if}
        {#if !sheet.data.archived}<button type="button" class="plain" onclick={() => change({ archived: true })}
            >Archive</button
          >{/if}
        {#if show !== 'all'}<span class="soft">{shown.length} of {sheet.data.recordings.length} shown</span>{/if}
        {#if sheet.data.recordings.length > 1}<button type="button" class="plain" onclick={orderByName}
            >Order by name</button
          >{/if}
        {#if sheet.data.recordings.length}<a href={`/api/productions/${params.id}/sheet.csv`} download>Sheet as CSV</a
          >{/if}
      </p>
      {#if acting.problem}<p class="problem" role="alert">{acting.problem}</p>{/if}

      <table>
        <caption class="visually-hidden">Inspection sheet of {sheet.data.name}</caption>
        <thead>
          <tr>
            <th scope="col" class="first">Recording</th>
            <th scope="col">Level over time</th>
            {#each quantities as column (column.limit.quantity)}
              <th scope="col">
                <Explained text={column.title} method={column.method} />
                <span class="bounds"
                  >{bounds({
                    ...column.limit,
                    low: column.limit.low ?? null,
                    high: column.limit.high ?? null,
                    decimals: column.decimals,
                    unit: column.unit,
                  })}</span
                >
              </th>
            {/each}
            <th scope="col">Verdict</th>
          </tr>
        </thead>
        <tbody>
          {#each shown as row (row.id)}
            <SheetRow
              row={row as Recording}
              {quantities}
              {acting}
              movable={show === 'all' && sheet.data.recordings.length > 1}
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
                    stage={upload.state === 'waiting' ? 'waiting to be sent' : 'bringing in'}
                    fraction={upload.fraction}
                    about={upload.name}
                    oncancel={() => upload.cancel()}
                  />
                {/if}
              </td>
            </tr>
          {/each}
        </tbody>
        {#if sheet.data.whole.length}
          <tfoot>
            <tr>
              <th scope="row" class="first">The whole production<span class="facts">spread between recordings</span></th
              >
              <td></td>
              {#each quantities as column (column.limit.quantity)}
                {@const limit = sheet.data.whole.find((found) => found.quantity === column.limit.quantity)}
                <td
                  >{#if limit}<LimitCell {limit} />{/if}</td
                >
              {/each}
              <td></td>
            </tr>
          </tfoot>
        {/if}
      </table>
      {#if !sheet.data.recordings.length && !mine.length}
        <p class="empty">
          Drop recordings anywhere on this page, or bring them in with the button. Each is measured at once.
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
  .plain {
    border: 0;
    background: none;
    padding: 0;
    cursor: pointer;
  }
  .plain {
    color: var(--act);
    text-decoration: underline;
    text-underline-offset: 3px;
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
  thead th {
    font-size: 12.5px;
    color: var(--ink);
    font-weight: 550;
    vertical-align: bottom;
    line-height: 1.3;
  }
  table :global(.first) {
    padding-left: 14px;
    min-width: 226px;
  }
  .bounds,
  .facts {
    display: block;
    font-size: 12px;
    font-weight: 400;
    color: var(--soft);
  }
  .soft,
  .empty {
    color: var(--soft);
  }
  .empty {
    text-align: center;
    padding: 60px 0;
  }
  tfoot th,
  tfoot td {
    border-top: 2px solid var(--ink);
    border-bottom: 0;
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
