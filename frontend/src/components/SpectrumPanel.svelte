<script lang="ts">
  // The long-term spectrum of the voice and of the room tone in third-octaves, on one picture, with hum and resonances marked.
  import { scaleLinear, scaleLog } from 'd3-scale';
  import type { Inspection } from '../lib/api';
  import { number } from '../lib/format';
  interface Props {
    spectrum: NonNullable<Inspection['spectrum']>;
    /** A span looked at as room tone. */
    chosen?: number[];
  }
  let { spectrum, chosen }: Props = $props();
  let outer = $state(640);
  const width = $derived(Math.max(outer, 320));
  const HEIGHT = 216;
  const [LEFT, RIGHT, TOP, BOTTOM] = [44, 92, 12, 26];
  const centres = $derived(spectrum.centres_hz ?? []);
  const x = $derived(
    scaleLog()
      .domain([80, Math.max(...centres, 100) * 1.2])
      .range([LEFT, width - RIGHT]),
  );
  const lines = $derived(
    [
      { key: 'voice', name: 'voice', levels: spectrum.speech_dbfs },
      { key: 'room', name: 'room tone', levels: spectrum.room_tone_dbfs },
      { key: 'chosen', name: 'selection', levels: chosen },
    ].filter((line): line is { key: string; name: string; levels: number[] } => Boolean(line.levels?.length)),
  );
  const values = $derived(lines.flatMap((line) => line.levels));
  const y = $derived(
    scaleLinear()
      .domain([
        Math.ceil((Math.max(...values, -30) + 3) / 10) * 10,
        Math.floor((Math.min(...values, -80) - 3) / 10) * 10,
      ])
      .range([TOP, HEIGHT - BOTTOM]),
  );
  const path = (levels: number[]) =>
    levels.map((level, band) => `${band ? 'L' : 'M'}${x(centres[band] ?? 1)} ${y(level)}`).join('');
  const MARKS = [100, 200, 500, 1_000, 2_000, 5_000, 10_000, 20_000];
  const hertz = (hz: number) => (hz >= 1000 ? `${number(hz / 1000, hz % 1000 ? 1 : 0)} kHz` : `${number(hz, 0)} Hz`);
  const mean = (levels: number[]) => levels.reduce((sum, level) => sum + level, 0) / levels.length;
  // Names stand where their lines end, apart from one another.
  const named = $derived.by(() => {
    let free = -Infinity;
    return lines
      .map((line) => ({ ...line, at: y(line.levels.at(-1) ?? 0) }))
      .sort((one, other) => Math.round((one.at - other.at) / 14) || mean(other.levels) - mean(one.levels))
      .map((line) => {
        free = Math.min(Math.max(line.at, free + 14), HEIGHT - BOTTOM);
        return { ...line, at: free };
      });
  });
  const resonances = $derived(spectrum.resonances ?? []);
  const hum = $derived(spectrum.hum_hz ?? []);
  const level = (levels: number[] | null | undefined, hz: number) => {
    const band = centres.findIndex((centre) => hz <= centre * 1.123);
    return levels?.[band] ?? -60;
  };
  const at = (levels: number[] | null | undefined, hz: number) => {
    const band = centres.indexOf(hz);
    return band < 0 || !levels ? '' : `${number(levels[band] ?? 0, 0)} at ${hertz(Math.round(hz))}`;
  };
  const said = $derived(
    `Spectrum in third-octaves, in dBFS. ` +
      lines
        .map(
          (line) =>
            `${line.name}: ${[251.2, 1000, 3981.1, 7943.3]
              .map((hz) => at(line.levels, hz))
              .filter(Boolean)
              .join(', ')}.`,
        )
        .join(' ') +
      (hum.length ? ` Hum at ${hum.map(hertz).join(', ')}.` : '') +
      resonances.map((one) => ` Resonance at ${hertz(one.frequency_hz)}, ${number(one.stands_out_db, 1)} dB.`).join(''),
  );
</script>

<div class="panel" bind:clientWidth={outer}>
  <svg {width} height={HEIGHT} role="img" aria-label={said}>
    {#each y.ticks(5) as mark (mark)}
      <line class="grid" x1={LEFT} x2={width - RIGHT} y1={y(mark)} y2={y(mark)} />
      <text class="scale" x={LEFT - 8} y={y(mark) + 4}>{number(mark, 0)}</text>
    {/each}
    {#each MARKS.filter((hz) => hz <= (x.domain()[1] ?? 0)) as hz (hz)}
      <line class="grid" x1={x(hz)} x2={x(hz)} y1={TOP} y2={HEIGHT - BOTTOM} />
      <text class="pitch" x={x(hz)} y={HEIGHT - 9}>{hz >= 1000 ? `${hz / 1000}k` : hz}</text>
    {/each}
    {#each hum.filter((hz) => hz >= 80) as hz (hz)}
      <line class="hum" x1={x(hz)} x2={x(hz)} y1={y(level(spectrum.room_tone_dbfs, hz)) - 9} y2={HEIGHT - BOTTOM} />
    {/each}
    {#each resonances as one (one.frequency_hz)}
      {@const top = y(level(spectrum.speech_dbfs, one.frequency_hz))}
      <path class="resonance" d={`M${x(one.frequency_hz) - 5} ${top - 14}h10M${x(one.frequency_hz)} ${top - 14}v9`} />
      <text class="resonance" x={x(one.frequency_hz)} y={top - 18}>{hertz(one.frequency_hz)}</text>
    {/each}
    {#each lines as line (line.key)}<path class={line.key} d={path(line.levels)} />{/each}
    {#each named as line (line.key)}
      <text class={`name ${line.key}`} x={width - RIGHT + 8} y={line.at + 4}>{line.name}</text>
    {/each}
  </svg>
  <p>
    {#if hum.length}Hum at {hertz(hum[0] ?? 0)} and its harmonics.{/if}
    {#each resonances as one (one.frequency_hz)}
      <span
        >Resonance at {hertz(one.frequency_hz)}: {number(one.stands_out_db, 1)} dB above its surroundings, {number(
          one.width_hz,
          0,
        )} Hz wide.</span
      >
    {/each}
    {#if !hum.length && !resonances.length}No hum and no resonances.{/if}
  </p>
</div>

<style>
  .panel {
    padding: var(--space-2) var(--space-5) var(--space-4);
    min-width: 0;
  }
  svg {
    display: block;
  }
  .grid {
    stroke: var(--rule);
    stroke-width: 0.6;
  }
  path {
    fill: none;
    stroke-width: 1.8;
  }
  path.voice {
    stroke: var(--ink);
  }
  path.room {
    stroke: var(--act);
  }
  path.chosen {
    stroke: var(--near);
    stroke-dasharray: 5 3;
  }
  .hum {
    stroke: var(--near);
    stroke-width: 2;
  }
  path.resonance {
    stroke: var(--near);
    stroke-width: 1.4;
  }
  text {
    font: var(--type-axis) var(--figures);
    fill: var(--soft);
    text-anchor: end;
    stroke: none;
  }
  .pitch,
  text.resonance {
    text-anchor: middle;
  }
  text.resonance {
    fill: var(--near);
  }
  .name {
    text-anchor: start;
    font-family: var(--words);
    font-size: var(--type-fine);
  }
  .name.voice {
    fill: var(--ink);
  }
  .name.room {
    fill: var(--act);
  }
  .name.chosen {
    fill: var(--near);
  }
  p {
    font-size: var(--type-plain);
    color: var(--soft);
  }
  p span {
    display: block;
  }
</style>
