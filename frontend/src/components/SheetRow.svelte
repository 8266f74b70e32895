<script lang="ts">
  // One recording on the sheet: its readings against the limits, and below it what came of conforming it.
  import { getContext } from 'svelte';
  import type { Acting } from '../lib/acting.svelte';
  import { answer, api, type Recording, type Work } from '../lib/api';
  import { clock, facts, size } from '../lib/format';
  import type { Live } from '../lib/live.svelte';
  import Button from './Button.svelte';
  import LimitCell from './LimitCell.svelte';
  import MiniRibbon from './MiniRibbon.svelte';
  import Progress from './Progress.svelte';
  interface Props {
    row: Recording;
    quantities: { limit: { quantity: string } }[];
    acting: Acting;
    /** Whether it has a handle to be put in order by: dragged, or moved by the arrow keys. */
    movable: boolean;
    /** The row that is being dragged, or nothing. */
    carried: string;
    oncarry: (id: string) => void;
    ondropped: () => void;
    onstep: (step: number) => void;
  }
  let { row, quantities, acting, movable, carried, oncarry, ondropped, onstep }: Props = $props();
  const live = getContext<Live>('live');
  let over = $state(false);
  const attempted = $derived(row.conforming);

  const again = (id: string) =>
    acting.attempt(async () =>
      answer(await api.POST('/api/recordings/{recording_id}/inspect', { params: { path: { recording_id: id } } })),
    );
  const remove = (id: string) =>
    acting.attempt(async () =>
      answer(await api.DELETE('/api/recordings/{recording_id}', { params: { path: { recording_id: id } } })),
    );
  const busy = (work: Work | null) => work && (work.state === 'waiting' || work.state === 'running');
  const stage = (work: Work) => {
    const now = live.progress[work.id] ?? work;
    return {
      stage: now.stage || (work.kind === 'inspect' ? 'waiting to be measured' : 'waiting'),
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
  data-name={row.name}
  class:carried={carried === row.id}
  class:over={over && carried && carried !== row.id}
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
    {#if movable}
      <button
        type="button"
        class="handle"
        draggable="true"
        data-handle={row.id}
        aria-label={`Move ${row.name}`}
        aria-keyshortcuts="ArrowUp ArrowDown"
        title="Drag, or use the arrow keys"
        ondragstart={(event) => {
          oncarry(row.id);
          event.dataTransfer?.setData('text/plain', row.name);
        }}
        ondragend={() => oncarry('')}
        onkeydown={byKey}>↕</button
      >
    {/if}
    <a href={`#/recordings/${row.id}`}>{row.name}</a>
    <span class="facts">{row.facts ? `${facts(row.facts)}, ${clock(row.facts.duration_s)}` : size(row.size_bytes)}</span
    >
  </th>
  {#if row.verdict}
    <td
      >{#if row.ribbon}<MiniRibbon ribbon={row.ribbon} />{/if}</td
    >
    {#each quantities as column (column.limit.quantity)}
      {@const limit = row.verdict.limits.find((found) => found.quantity === column.limit.quantity)}
      <td
        >{#if limit}<LimitCell {limit} />{/if}</td
      >
    {/each}
    <td class="verdict">
      <span class={row.verdict.passes ? 'inside' : 'outside'}>{row.verdict.passes ? 'Inside' : 'Outside'}</span>
      {#if attempted && busy(attempted.work) && attempted.work}
        {@const now = stage(attempted.work)}
        <Progress
          stage={now.stage}
          fraction={now.fraction}
          about={row.name}
          oncancel={() => acting.cancel(attempted.work?.id ?? '')}
        />
      {:else if !attempted?.passes}
        <Button label={`Conform ${row.name}`} onclick={() => acting.conform(row.id, { preference: 'balanced' })}
          >{attempted?.work?.state === 'cancelled' || attempted?.work?.state === 'failed' || attempted?.passes === false
            ? 'Try again'
            : 'Conform'}</Button
        >
      {/if}
    </td>
  {:else if row.work?.state === 'failed'}
    <td colspan={quantities.length + 1} class="failed"><span role="alert">{row.work.error}</span></td>
    <td class="verdict"
      ><Button onclick={() => again(row.id)}>Measure again</Button><Button
        label={`Remove ${row.name}`}
        onclick={() => remove(row.id)}>Remove</Button
      ></td
    >
  {:else if row.work?.state === 'cancelled'}
    <td colspan={quantities.length + 1} class="soft">Measuring was cancelled.</td>
    <td class="verdict"><Button onclick={() => again(row.id)}>Measure</Button></td>
  {:else if row.work}
    {@const now = stage(row.work)}
    <td colspan={quantities.length + 2}
      ><Progress
        stage={now.stage}
        fraction={now.fraction}
        about={row.name}
        oncancel={() => acting.cancel(row.work?.id ?? '')}
      /></td
    >
  {/if}
</tr>
{#if attempted?.passes && attempted.after}
  <tr class="after" data-after={row.name}>
    <th scope="row" class="first">
      <span class="turn" aria-hidden="true">↳</span> conformed
      <span class="facts"
        >{attempted.steps.length
          ? attempted.steps.map((step) => step.kind.replaceAll('-', ' ')).join(', ')
          : 'encoding alone'}; touch {Math.round(attempted.touch?.touch ?? 0)}</span
      >
    </th>
    <td class="downloads">
      <a href={`/api/conformings/${attempted.id}/file`} download>{attempted.container.toUpperCase()}</a>
      {#if attempted.certified}<a href={`/api/conformings/${attempted.id}/certificate`} download>Certificate</a>{/if}
    </td>
    {#each quantities as column (column.limit.quantity)}
      {@const limit = attempted.after.limits.find((found) => found.quantity === column.limit.quantity)}
      <td
        >{#if limit}<LimitCell {limit} />{/if}</td
      >
    {/each}
    <td class="verdict"><span class="inside">{attempted.certified ? 'Certified' : 'Inside'}</span></td>
  </tr>
{:else if attempted && (attempted.obstacles.length || attempted.work?.state === 'failed')}
  <tr class="after" data-after={row.name}>
    <th scope="row" class="first"><span class="turn" aria-hidden="true">↳</span> can't be conformed</th>
    <td colspan={quantities.length + 2} class="failed">
      {#each attempted.obstacles as obstacle (obstacle.advice)}<p>{obstacle.advice}</p>{/each}
      {attempted.work?.error ?? ''}
    </td>
  </tr>
{/if}

<style>
  .facts {
    display: block;
    font-size: 12px;
    color: var(--soft);
  }
  .handle {
    float: left;
    width: 18px;
    margin-left: -4px;
    padding: 8px 0;
    border: 0;
    background: none;
    color: var(--soft);
    opacity: 0.35;
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
  .soft,
  .turn {
    color: var(--soft);
  }
  .verdict {
    white-space: nowrap;
  }
  .verdict > span {
    font-weight: 550;
    margin-right: 10px;
  }
  .after {
    background: color-mix(in srgb, var(--paper) 55%, var(--sheet));
  }
  .downloads a {
    margin-right: 10px;
  }
  @media (max-width: 1240px) {
    .verdict {
      white-space: normal;
    }
  }
</style>
