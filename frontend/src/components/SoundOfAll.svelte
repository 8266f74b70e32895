<script lang="ts">
  // Every recording's voice and room on one decibel axis, now and as expected: how ragged a production is, and what one sound makes of it.
  import { scaleLinear } from 'd3-scale';
  import type { ForecastRow } from '../lib/api';
  import { number } from '../lib/format';
  interface Props {
    rows: ForecastRow[];
    width: number;
    onpoint: (id: string | undefined) => void;
  }
  let { rows, width, onpoint }: Props = $props();
  const HEIGHT = 168;
  const LEFT = 44;
  const BOTTOM = 20;
  const levels = $derived(
    rows.flatMap((row) =>
      [row.speech_dbfs, row.speech_expected_dbfs, row.room_dbfs, row.room_expected_dbfs].filter(
        (level): level is number => level !== null,
      ),
    ),
  );
  const top = $derived(Math.min(0, 10 * Math.ceil((Math.max(-20, ...levels) + 3) / 10)));
  const low = $derived(10 * Math.floor((Math.min(-60, ...levels) - 3) / 10));
  const y = $derived(scaleLinear([top, low], [8, HEIGHT - BOTTOM]));
  const column = $derived((width - LEFT - 8) / Math.max(rows.length, 1));
  const stroke = $derived(Math.min(26, Math.max(3, column * 0.62)));
  const middle = (place: number) => LEFT + column * (place + 0.5);
  const ticks = $derived(y.ticks(5));
  const said = (row: ForecastRow) => {
    const to = (now: number | null, then: number | null) =>
      `${now === null ? 'none' : number(now, 1)}${then === null ? '' : ` → ${number(then, 1)}`} dBFS`;
    return `${row.name}: voice ${to(row.speech_dbfs, row.speech_expected_dbfs)}, room ${to(row.room_dbfs, row.room_expected_dbfs)}`;
  };
</script>

<svg {width} height={HEIGHT} role="img" aria-label="Level of voice and room in every recording, now and as expected">
  {#each ticks as tick (tick)}
    <line class="rule" x1={LEFT} x2={width} y1={y(tick)} y2={y(tick)} />
    <text x={LEFT - 8} y={y(tick) + 4} text-anchor="end">{number(tick, 0)}</text>
  {/each}
  {#each rows as row, place (row.id)}
    {@const at = middle(place)}
    <!-- svelte-ignore a11y_no_static_element_interactions -->
    <g onpointerenter={() => onpoint(row.id)} onpointerleave={() => onpoint(undefined)}>
      <title>{said(row)}</title>
      <rect class="catch" x={at - column / 2} y="0" width={column} height={HEIGHT} />
      {#each [[row.speech_dbfs, row.speech_expected_dbfs, 'voice'], [row.room_dbfs, row.room_expected_dbfs, 'room']] as const as [now, then, of] (of)}
        {#if now !== null}
          <line class={`now ${of}`} x1={at - stroke / 2} x2={at + stroke / 2} y1={y(now)} y2={y(now)} />
        {/if}
        {#if now !== null && then !== null && Math.abs(then - now) > 0.3}
          <line class="way" x1={at} x2={at} y1={y(now)} y2={y(then)} />
        {/if}
        {#if then !== null}
          <line class={`then ${of}`} x1={at - stroke / 2} x2={at + stroke / 2} y1={y(then)} y2={y(then)} />
        {/if}
      {/each}
      {#if rows.length <= 40}<text class="place" x={at} y={HEIGHT - 5} text-anchor="middle">{row.position}</text>{/if}
    </g>
  {/each}
</svg>

<style>
  svg {
    display: block;
  }
  .rule {
    stroke: var(--rule);
  }
  text {
    font-family: var(--figures);
    font-size: var(--type-fine);
    fill: var(--soft);
  }
  .catch {
    fill: transparent;
  }
  g:hover .catch {
    fill: var(--act-pale);
  }
  .now {
    stroke: var(--ink);
    stroke-width: 3;
    opacity: 0.38;
  }
  .then {
    stroke: var(--ink);
    stroke-width: 3;
    stroke-dasharray: 4 2;
  }
  .then.voice {
    stroke: var(--act);
  }
  .then.room {
    stroke: var(--inside);
  }
  .way {
    stroke: var(--soft);
    stroke-dasharray: 1.5 3;
  }
</style>
