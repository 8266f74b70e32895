<script lang="ts">
  // One recording on the sheet: its readings against the limits, and below it what came of conforming it.
  import { createQuery } from '@tanstack/svelte-query';
  import { getContext } from 'svelte';
  import type { Acting } from '../lib/acting.svelte';
  import type { SheetEntry, Work } from '../lib/api';
  import type { Column } from '../lib/columns';
  import { clock, date, facts, size } from '../lib/format';
  import type { Live } from '../lib/live.svelte';
  import type { Rows } from '../lib/rows';
  import { underWay } from '../lib/works';
  import * as recordings from '../lib/server/recordings';
  import Button from './Button.svelte';
  import LimitCell from './LimitCell.svelte';
  import MiniRibbon from './MiniRibbon.svelte';
  import Progress from './Progress.svelte';
  interface Props {
    entry: SheetEntry;
    production: string;
    columns: Column[];
    acting: Acting;
    chosen: boolean;
    onchosen: (wanted: boolean, span: boolean) => void;
    /** Whether it has a handle to be put in order by: dragged, or moved by the arrow keys. */
    movable: boolean;
    /** Whether the others are brought to it. */
    reference: boolean;
    /** The row that is being dragged, or nothing. */
    carried: string;
    oncarry: (id: string) => void;
    ondropped: () => void;
    onstep: (step: number) => void;
  }
  let {
    entry,
    production,
    columns,
    acting,
    chosen,
    onchosen,
    movable,
    reference,
    carried,
    oncarry,
    ondropped,
    onstep,
  }: Props = $props();
  const live = getContext<Live>('live');
  const rows = getContext<Rows>('rows');
  const found = createQuery(() => recordings.row(entry.id, production, rows));
  /** Nothing until the row has come. */
  const row = $derived(found.data);
  let over = $state(false);
  const attempted = $derived(row?.conforming);
  const delivered = $derived(row?.delivered);
  /** Whether there is a file that meets the specification of now and was made for it. */
  const settled = $derived(Boolean(delivered?.current && delivered.passes));
  const failed = $derived(
    attempted &&
      attempted.id !== delivered?.id &&
      ((attempted.refused && attempted.current) || attempted.work?.state === 'failed'),
  );
  const madeFor = $derived(
    delivered && !delivered.current
      ? `${delivered.certificate_for ? 'certified' : 'made'} for ${delivered.made_for.name}, version ${delivered.made_for.version}`
      : '',
  );

  const stage = (work: Work) => {
    const now = live.progress[work.id] ?? work;
    return {
      stage: now.stage || 'Queued',
      fraction: now.fraction,
    };
  };
  function byKey(event: KeyboardEvent) {
    const step = { ArrowUp: -1, ArrowDown: 1 }[event.key];
    if (!step) return;
    event.preventDefault();
    event.stopPropagation();
    onstep(step);
  }
</script>

<tr
  data-name={entry.name}
  data-status={entry.status}
  class:chosen
  class:carried={carried === entry.id}
  class:over={over && carried && carried !== entry.id}
  ondragover={(event) => {
    if (!carried) return;
    event.preventDefault();
    over = true;
  }}
  ondragleave={() => (over = false)}
  ondrop={(event) => {
    if (!carried) return;
    event.preventDefault();
    event.stopPropagation();
    over = false;
    ondropped();
  }}
>
  <th scope="row" class="first">
    <input
      type="checkbox"
      aria-label={`Select ${entry.name}`}
      checked={chosen}
      onclick={(event) => onchosen(event.currentTarget.checked, event.shiftKey)}
    />
    {#if movable}
      <button
        type="button"
        class="handle"
        draggable="true"
        data-handle={entry.id}
        aria-label={`Move ${entry.name}`}
        aria-keyshortcuts="ArrowUp ArrowDown"
        title="Drag, or use the arrow keys"
        ondragstart={(event) => {
          oncarry(entry.id);
          event.dataTransfer?.setData('text/plain', entry.name);
        }}
        ondragend={() => oncarry('')}
        onkeydown={byKey}>↕</button
      >
    {/if}
    <a href={`#/recordings/${entry.id}`}>{entry.name}</a>
    <span class="facts"
      >{row?.facts
        ? `${facts(row.facts)}, ${clock(row.facts.duration_s)}`
        : row
          ? size(row.size_bytes)
          : '\u00a0'}</span
    >
    {#if reference}<span class="facts">reference for the others</span>{/if}
    {#if row?.older_methods}<span class="facts twin">measured with an older method</span>{/if}
    {#if row?.same_as}<span class="facts twin">duplicate of {row.same_as}</span>{/if}
  </th>
  {#if !row}
    <td colspan={columns.length + 2}></td>
  {:else if row.verdict}
    <td
      >{#if row.ribbon}<MiniRibbon ribbon={row.ribbon} />{/if}</td
    >
    {#each columns as column (column.limit.quantity)}
      {@const limit = row.verdict.limits.find((found) => found.quantity === column.limit.quantity)}
      <td class="of-limit"
        >{#if limit}<LimitCell {limit} apart={entry.apart[limit.quantity]} />{/if}</td
      >
    {/each}
    <td class="verdict">
      <span class={row.verdict.passes ? 'inside' : 'outside'}>{row.verdict.passes ? 'Inside' : 'Outside'}</span>
      {#if attempted?.work && underWay(attempted.work)}
        {@const now = stage(attempted.work)}
        <div class="under-way">
          <Progress
            stage={now.stage}
            fraction={now.fraction}
            about={row.name}
            oncancel={() => acting.cancel(attempted.work?.id ?? '')}
          />
        </div>
      {:else if !settled}
        {#if entry.status === 'planned'}<span class="planned">planned</span>{/if}
        <Button label={`Conform ${row.name}`} onclick={() => acting.conform(row.id, {})}
          >{attempted?.work?.state === 'cancelled' ||
          attempted?.work?.state === 'failed' ||
          (attempted?.refused && attempted.current)
            ? 'Try again'
            : 'Conform'}</Button
        >
      {/if}
    </td>
  {:else if row.work?.state === 'failed'}
    <td colspan={columns.length + 1} class="failed"><span role="alert">{row.work.error}</span></td>
    <td class="verdict"
      ><Button onclick={() => acting.measure(row.id)}>Measure again</Button><Button
        label={`Remove ${row.name}`}
        onclick={() => acting.remove([entry])}>Remove</Button
      ></td
    >
  {:else if row.work?.state === 'cancelled'}
    <td colspan={columns.length + 1} class="soft">Measuring was cancelled.</td>
    <td class="verdict"><Button onclick={() => acting.measure(row.id)}>Measure</Button></td>
  {:else if row.work}
    {@const now = stage(row.work)}
    <td colspan={columns.length + 2}
      ><Progress
        stage={now.stage}
        fraction={now.fraction}
        about={row.name}
        oncancel={() => acting.cancel(row.work?.id ?? '')}
      /></td
    >
  {/if}
</tr>
{#if delivered?.after}
  {@const made = delivered}
  <tr class="after" data-after={entry.name}>
    <th scope="row" class="first">
      <span class="turn" aria-hidden="true">↳</span> conformed
      <span class="facts"
        >{made.kept || made.one_sound ? `${made.made_by}: ` : ''}{made.steps.length
          ? made.steps.map((step) => step.kind.replaceAll('-', ' ')).join(', ')
          : 'only conversion'}; touch {Math.round(made.touch?.touch ?? 0)}</span
      >
      {#if madeFor}<span class="facts twin">{madeFor}</span>{/if}
    </th>
    <td class="downloads">
      <a href={`/api/conformings/${made.id}/file`} download>{made.container.toUpperCase()}</a>
      {#if made.certificate_for}<a href={`/api/conformings/${made.id}/certificate`} download>Certificate</a>{/if}
    </td>
    {#each columns as column (column.limit.quantity)}
      {@const limit = made.after?.limits.find((found) => found.quantity === column.limit.quantity)}
      <td class="of-limit"
        >{#if limit}<LimitCell {limit} />{/if}</td
      >
    {/each}
    <td class="verdict"
      ><span
        class={made.passes ? 'inside' : 'outside'}
        title={made.handed_over_at ? `Delivered ${date(made.handed_over_at)}` : undefined}
        >{made.handed_over_at && settled
          ? 'Delivered'
          : made.certified
            ? 'Certified'
            : made.passes
              ? 'Inside'
              : 'Outside'}</span
      ></td
    >
  </tr>
{/if}
{#if failed && attempted}
  <tr class="after" data-failed={entry.name}>
    <th scope="row" class="first"
      ><span class="turn" aria-hidden="true">↳</span>
      {attempted.own && attempted.refused ? 'missed a limit' : "can't meet its specification"}</th
    >
    <td colspan={columns.length + 2} class="failed">
      {#each attempted.obstacles as obstacle (obstacle.advice)}<p>{obstacle.advice}</p>{/each}
      {attempted.closing ? `${attempted.closing.said} ` : ''}{attempted.work?.error ?? ''}
    </td>
  </tr>
{/if}

<style>
  .facts {
    display: block;
    padding-left: var(--space-7);
    font-size: var(--type-fine);
    color: var(--soft);
  }
  input {
    float: left;
    margin: 1px var(--space-3) var(--space-2) 0;
  }
  .chosen {
    background: var(--act-pale);
  }
  .twin {
    color: var(--near);
  }
  .handle {
    float: left;
    clear: left;
    width: 24px;
    height: 20px;
    margin: 0 calc(var(--space-7) * -1) 0 calc(var(--space-2) * -1);
    padding: 0;
    border: 0;
    background: none;
    color: var(--soft);
    opacity: 0.8;
    cursor: grab;
  }
  tr:hover .handle,
  .handle:focus-visible {
    opacity: 1;
  }
  .carried {
    opacity: 0.5;
  }
  .over {
    outline: 2px solid var(--act);
    outline-offset: -2px;
  }
  .inside {
    color: var(--inside);
  }
  .outside,
  .failed {
    color: var(--outside);
  }
  .turn {
    color: var(--soft);
  }
  .verdict {
    white-space: nowrap;
  }
  .verdict:has(.planned) {
    white-space: normal;
  }
  .under-way {
    width: 216px;
    white-space: normal;
  }
  .planned {
    color: var(--soft);
  }
  .verdict > span:first-child {
    font-weight: 550;
  }
  .verdict > span {
    margin-right: var(--space-4);
  }
  .after {
    background: color-mix(in srgb, var(--paper) 55%, var(--sheet));
  }
  .downloads a {
    margin-right: var(--space-4);
  }
  @media (max-width: 1240px) {
    .verdict {
      white-space: normal;
    }
  }
  @media screen and (max-width: 640px) {
    .of-limit {
      order: 1;
    }
  }
  @media print {
    .handle {
      display: none;
    }
  }
</style>
