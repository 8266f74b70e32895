<script lang="ts">
  // What a take check came to: what to do in sentences, the distance of every limit, the figures, and what changed since.
  import type { TakeCheck } from '../lib/api';
  import { exact, number } from '../lib/format';
  import BracketMark from './BracketMark.svelte';
  import ListTable from './ListTable.svelte';
  let { check }: { check: TakeCheck } = $props();
  const found = $derived(check.found);
  type Distance = TakeCheck['found']['distances'][number];
  const allowed = ({ low, high }: Distance) =>
    low !== null && high !== null
      ? `${exact(low)} to ${exact(high)}`
      : high !== null
        ? `at most ${exact(high)}`
        : `at least ${exact(low ?? 0)}`;
  const position = ({ missed_by, expected, high }: Distance) =>
    missed_by <= 0.05 ? 'inside' : high !== null && expected > high - 0.05 ? 'over' : 'under';
  const level = (value: number | null, unit: string) => (value === null ? 'silence' : `${number(value, 1)} ${unit}`);
  const figures = $derived([
    ['Peak', level(found.peak_dbfs, 'dBFS')],
    ['True peak', level(found.true_peak_dbtp, 'dBTP')],
    ['Speech', level(found.speech_dbfs, 'dBFS')],
    ['Room', level(found.room_dbfs, 'dBFS')],
    ['Hum', found.hum_hz ? `${found.hum_hz} Hz, ${number(found.hum_db ?? 0, 0)} dB` : 'none'],
    ['Room rings', found.decay_s === null ? 'not to tell' : `${number(found.decay_s, 2)} s`],
    ['Clipped', found.clipped ? `${found.clipped} times` : 'no'],
  ]);
</script>

<ul class="advice">
  {#each found.advice as one (one.text)}
    <li class:must={one.must}>{one.text}</li>
  {/each}
</ul>
{#if check.compared.length}
  <p class="soft">{check.compared.join(' ')}</p>
{/if}
<div class="halves">
  <ListTable caption={check.specification.name}>
    <thead>
      <tr
        ><th scope="col">{check.specification.name}</th><th scope="col">Read</th><th scope="col"
          >After {found.gain_db > 0 ? '+' : ''}{number(found.gain_db, 1)} dB</th
        ><th scope="col">Allowed</th></tr
      >
    </thead>
    <tbody>
      {#each found.distances as one (one.quantity)}
        <tr class:missed={one.missed_by > 0.05}>
          <th scope="row"><BracketMark position={position(one)} /> {one.title}</th>
          <td class="figure">{number(one.read, one.decimals)}</td>
          <td class="figure">{number(one.expected, one.decimals)}</td>
          <td class="figure">{allowed(one)} {one.unit}</td>
        </tr>
      {/each}
    </tbody>
  </ListTable>
  <dl>
    {#each figures as [name, value] (name)}
      <div>
        <dt>{name}</dt>
        <dd>{value}</dd>
      </div>
    {/each}
  </dl>
</div>

<style>
  .advice {
    margin: 0;
    padding: 0;
    list-style: none;
    display: grid;
    gap: var(--space-3);
  }
  .advice li {
    padding-left: var(--space-5);
    border-left: 3px solid var(--inside);
  }
  .advice .must {
    border-color: var(--outside);
    font-weight: 550;
  }
  .halves {
    display: grid;
    grid-template-columns: minmax(0, 1.6fr) minmax(0, 1fr);
    gap: var(--space-7);
    align-items: start;
  }
  @media (max-width: 700px) {
    .halves {
      grid-template-columns: minmax(0, 1fr);
    }
  }
  .missed td:nth-child(3) {
    color: var(--outside);
  }
  dl {
    margin: 0;
    font-size: var(--type-plain);
  }
  dl div {
    display: flex;
    justify-content: space-between;
    border-bottom: 1px solid var(--rule);
    padding: var(--space-1) 0;
  }
  dt {
    color: var(--soft);
  }
  dd {
    margin: 0;
  }
  dd,
  .figure {
    font-family: var(--figures);
  }
</style>
