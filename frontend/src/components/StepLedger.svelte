<script lang="ts">
  // What each step was there for, what it learned of this recording, and what it left: level readings after each, from the same run.
  import type { Conforming, Inspection } from '../lib/api';
  import { number } from '../lib/format';
  interface Props {
    steps: Conforming['steps'];
    ledger: Conforming['ledger'];
    outOfOrder: string[];
    before: Inspection;
  }
  let { steps, ledger, outOfOrder, before }: Props = $props();
  const SHOWN = [
    ['sample_peak_dbfs', 'Peak'],
    ['rms_dbfs', 'RMS'],
    ['integrated_loudness_lufs', 'LUFS'],
    ['crest_factor_db', 'Crest'],
  ] as const;
  const rows = $derived([
    { kind: 'as recorded', readings: before.readings },
    ...ledger.map((line) => ({ kind: line.kind.replaceAll('-', ' '), readings: line.readings ?? {} })),
  ]);
  const figure = (value: number | null | undefined) => (value == null ? '–' : number(value, 1));
  // What a step learned, as words: its figures by name, lists by how many they hold.
  const UNITS = { dbfs: 'dBFS', db: 'dB', hz: 'Hz', s: 's', lufs: 'LUFS' } as const;
  function words(learned: Record<string, unknown>): string {
    const told = Object.entries(learned).flatMap(([name, value]) => {
      if (value === null || value === undefined) return [];
      const parts = name.split('_');
      const unit = UNITS[parts.at(-1) as keyof typeof UNITS];
      const title = (unit ? parts.slice(0, -1) : parts).join(' ');
      if (Array.isArray(value)) return value.length ? [`${title} ${value.length}`] : [];
      if (typeof value !== 'number') return [];
      return [`${title} ${number(value, Number.isInteger(value) ? 0 : 1)}${unit ? ` ${unit}` : ''}`];
    });
    return told.length ? `Learned: ${told.join(', ')}.` : '';
  }
</script>

{#if steps.length}
  <ol>
    {#each steps as step, index (index)}
      {@const learned = words((step.learned ?? {}) as Record<string, unknown>)}
      <li>
        <b>{step.kind.replaceAll('-', ' ')}</b>
        {step.reason}
        {#if learned}<span class="soft">{learned}</span>{/if}
        {#each ledger[index]?.warnings ?? [] as warning (warning)}<span class="warning">{warning}</span>{/each}
      </li>
    {/each}
  </ol>
  {#each outOfOrder as said (said)}<p class="warning">{said}</p>{/each}
  {#if ledger.some((line) => Object.keys(line.readings ?? {}).length)}
    <table>
      <caption class="visually-hidden">Level after each step</caption>
      <thead>
        <tr>
          <th scope="col">After step</th>
          {#each SHOWN as [, title] (title)}<th scope="col">{title}</th>{/each}
        </tr>
      </thead>
      <tbody>
        {#each rows as row, index (index)}
          <tr>
            <th scope="row">{row.kind}</th>
            {#each SHOWN as [quantity] (quantity)}<td>{figure(row.readings[quantity]?.value)}</td>{/each}
          </tr>
        {/each}
      </tbody>
    </table>
  {/if}
{:else}
  <p>No processing needed, only conversion.</p>
{/if}

<style>
  ol {
    margin: 0;
    padding-left: var(--space-6);
  }
  li {
    margin-bottom: var(--space-3);
  }
  b {
    font-weight: 600;
  }
  b::first-letter {
    text-transform: uppercase;
  }
  .warning {
    color: var(--near);
  }
  table {
    width: calc(100% - 28px);
    border-collapse: collapse;
    margin: var(--space-4) 0;
    font-size: var(--type-small);
  }
  th {
    font-weight: 500;
    text-align: right;
    color: var(--soft);
    padding: var(--space-1) 0 var(--space-1) var(--space-4);
  }
  th:first-child {
    text-align: left;
    padding-left: 0;
  }
  tbody th {
    color: var(--ink);
  }
  tbody th::first-letter {
    text-transform: uppercase;
  }
  thead th {
    border-bottom: 1px solid var(--rule);
  }
  td {
    font-family: var(--figures);
    font-size: var(--type-small);
    text-align: right;
    padding: var(--space-1) 0 var(--space-1) var(--space-4);
  }
</style>
