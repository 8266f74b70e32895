<script lang="ts">
  // Level over time on a decibel axis, with every level limit as a line in the same picture.
  import { scaleLinear } from 'd3-scale';
  import type { LimitVerdict, Pause, Ribbon } from '../lib/api';
  import { clock, number } from '../lib/format';
  import type { Place } from '../lib/places';
  interface Props {
    ribbon: Ribbon;
    duration: number;
    limits: LimitVerdict[];
    pauses: Pause[];
    places: Place[];
    playhead: number;
    onseek: (seconds: number) => void;
  }
  let { ribbon, duration, limits, pauses, places, playhead, onseek }: Props = $props();

  let outer = $state(1200);
  const width = $derived(Math.max(outer, 400));
  const HEIGHT = 222;
  const LANE = 17; // where the numbers of the places stand
  const LEFT = 44;
  const BOTTOM = 22;
  const RIGHT = 132;
  const y = scaleLinear()
    .domain([0, -80])
    .range([6, HEIGHT - BOTTOM - LANE]);
  const x = $derived(
    scaleLinear()
      .domain([0, duration])
      .range([LEFT, width - RIGHT]),
  );
  const path = $derived.by(() => {
    const count = ribbon.peak_dbfs.length;
    const at = (index: number) => x((index / count) * duration).toFixed(1);
    const top = ribbon.peak_dbfs.map((level, index) => `${at(index)} ${y(level).toFixed(1)}`);
    const bottom = ribbon.rms_dbfs.map(
      (level, index) => `${at(index)} ${Math.max(y(level), y(ribbon.peak_dbfs[index] ?? level) + 1).toFixed(1)}`,
    );
    return `M${top.join('L')}L${bottom.reverse().join('L')}Z`;
  });
  const find = (...quantities: string[]) => limits.find((limit) => quantities.includes(limit.quantity));
  const ceiling = $derived(find('sample_peak_dbfs', 'true_peak_dbtp'));
  const corridor = $derived(find('rms_dbfs', 'integrated_loudness_lufs'));
  const floor = $derived(find('noise_floor_dbfs'));
  // Each place in time; a number is only written where it does not cover the one before.
  const pins = $derived.by(() => {
    let free = -Infinity;
    return places
      .filter((place) => !place.whole)
      .sort((one, other) => one.number - other.number)
      .map((place) => {
        const at = x((place.start_s + place.end_s) / 2);
        const numbered = at - free > 8 + 6 * String(place.number).length;
        if (numbered) free = at;
        return { ...place, at, numbered };
      });
  });
  const said = $derived(
    `Level over ${clock(duration)}.` +
      limits
        .filter((limit) => typeof limit.reading === 'number' && limit.unit.startsWith('dB'))
        .map((limit) => ` ${limit.title} ${number(limit.reading as number, 1)} ${limit.unit}, ${limit.position}.`)
        .join(''),
  );
</script>

<!-- The keys of the strip below move the same playhead; this is the pointer's way. -->
<div
  class="ribbon"
  role="presentation"
  onclick={(event) => onseek(x.invert(event.clientX - event.currentTarget.getBoundingClientRect().left))}
  bind:clientWidth={outer}
>
  <svg {width} height={HEIGHT} role="img" aria-label={said}>
    {#if corridor && corridor.low !== null && corridor.high !== null}
      <rect
        class="corridor"
        x={LEFT}
        width={width - LEFT - RIGHT}
        y={y(corridor.high)}
        height={y(corridor.low) - y(corridor.high)}
      />
      <text class="label" x={width - RIGHT + 8} y={(y(corridor.low) + y(corridor.high)) / 2 + 4}
        >{corridor.title} {number(corridor.low, 0)} to {number(corridor.high, 0)}</text
      >
    {/if}
    {#each [0, -20, -40, -60, -80] as level (level)}
      <line class="grid" x1={LEFT} x2={width - RIGHT} y1={y(level)} y2={y(level)} />
      <text class="scale" x={LEFT - 8} y={y(level) + 4}>{number(level, 0)}</text>
    {/each}
    <path class="level" d={path} />
    {#if ceiling && ceiling.high !== null}
      <line
        class="limit"
        class:broken={!ceiling.passes}
        x1={LEFT}
        x2={width - RIGHT}
        y1={y(ceiling.high)}
        y2={y(ceiling.high)}
      />
      <text class="label" class:broken={!ceiling.passes} x={width - RIGHT + 8} y={y(ceiling.high) + 4}
        >{ceiling.title} {number(ceiling.high, 0)}</text
      >
    {/if}
    {#if floor && floor.high !== null}
      <line
        class="limit"
        class:broken={!floor.passes}
        x1={LEFT}
        x2={width - RIGHT}
        y1={y(floor.high)}
        y2={y(floor.high)}
      />
      <text class="label" class:broken={!floor.passes} x={width - RIGHT + 8} y={y(floor.high) + 4}
        >Noise floor {number(floor.high, 0)}</text
      >
    {/if}
    {#each pauses as pause (pause.start_s)}
      {#if typeof pause.level_dbfs === 'number'}
        <line
          class="room"
          class:broken={floor && floor.high !== null && pause.level_dbfs > floor.high}
          x1={x(pause.start_s)}
          x2={Math.max(x(pause.end_s), x(pause.start_s) + 2)}
          y1={y(Math.max(pause.level_dbfs, -80))}
          y2={y(Math.max(pause.level_dbfs, -80))}
        />
      {/if}
    {/each}
    {#each pins as pin (pin.number)}
      <rect
        class="finding"
        class:outside={pin.outside}
        x={x(pin.start_s)}
        width={Math.max(1.5, x(pin.end_s) - x(pin.start_s))}
        y={HEIGHT - BOTTOM - 4}
        height="4"
      />
      {#if pin.numbered}<text class="pin" class:outside={pin.outside} x={pin.at} y={HEIGHT - BOTTOM - 6}
          >{pin.number}</text
        >{/if}
    {/each}
    <line class="playhead" x1={x(playhead)} x2={x(playhead)} y1={y(0)} y2={HEIGHT - BOTTOM} />
    {#each x.ticks(10) as second (second)}
      <line class="tick" x1={x(second)} x2={x(second)} y1={HEIGHT - BOTTOM} y2={HEIGHT - BOTTOM + 4} />
      <text class="time" x={x(second)} y={HEIGHT - 4}>{clock(second)}</text>
    {/each}
  </svg>
</div>

<style>
  .ribbon {
    background: var(--sheet);
    border: 1px solid var(--rule);
  }
  svg {
    display: block;
  }
  .corridor {
    fill: color-mix(in srgb, var(--inside) 13%, transparent);
  }
  .grid {
    stroke: var(--rule);
    stroke-width: 0.6;
  }
  .level {
    fill: var(--ink);
  }
  .limit {
    stroke: var(--inside);
    stroke-width: 1.4;
  }
  .limit.broken {
    stroke: var(--outside);
  }
  .room {
    stroke: var(--act);
    stroke-width: 2.5;
  }
  .room.broken {
    stroke: var(--outside);
  }
  .finding {
    fill: var(--near);
  }
  .pin {
    font: 600 10px var(--figures);
    fill: var(--near);
    text-anchor: middle;
  }
  .finding.outside,
  .pin.outside {
    fill: var(--outside);
  }
  .playhead {
    stroke: var(--act);
    stroke-width: 1.5;
  }
  .scale,
  .time,
  .label {
    font: 11px var(--figures);
    fill: var(--soft);
    text-anchor: end;
  }
  .label {
    text-anchor: start;
  }
  .time {
    text-anchor: middle;
  }
  .label {
    font-family: var(--words);
    fill: var(--inside);
  }
  .label.broken {
    fill: var(--outside);
  }
  .tick {
    stroke: var(--soft);
  }
</style>
