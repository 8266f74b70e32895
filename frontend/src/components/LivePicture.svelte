<script lang="ts">
  // The levels of the last half minute as they come: peaks over the level, where peaks should lie, and which part was the room.
  import type { Level } from '../lib/take-check.svelte';
  import { SHOWN_S } from '../lib/take-check.svelte';
  import { frameOf, HEIGHT, LEFT, TOP, FLOOR, BOTTOM, y } from '../lib/ribbon-geometry';
  import { number } from '../lib/format';
  interface Props {
    levels: Level[];
    parts: string[];
    /** Where the peaks of the sentences should lie, in dBFS. */
    aim: [number, number] | undefined;
  }
  let { levels, parts, aim }: Props = $props();
  let outer = $state(800);
  const frame = $derived(frameOf(outer, { start: -SHOWN_S, end: 0 }));
  const last = $derived(levels.at(-1)?.at_s ?? 0);
  const LEAST = -80;
  const at = (level: number | null) => y(Math.max(LEAST, Math.min(0, level ?? LEAST)));
  const step = $derived(frame.plot / (SHOWN_S * 10));
  const drawn = $derived(
    levels.map((level, place) => ({
      x: frame.x(level.at_s - last) - step,
      peak: at(level.peak_dbfs),
      rms: at(level.rms_dbfs),
      clipped: level.full_scale > 0,
      part: parts[place] ?? '',
    })),
  );
  const area = $derived(
    drawn.length
      ? `M${drawn[0]?.x} ${FLOOR}` +
          drawn.map(({ x, peak }) => `L${x.toFixed(1)} ${peak.toFixed(1)}h${step.toFixed(2)}`).join('') +
          `V${FLOOR}Z`
      : '',
  );
  const level = $derived(
    drawn
      .map(({ x, rms }, place) => `${place ? 'L' : 'M'}${x.toFixed(1)} ${rms.toFixed(1)}h${step.toFixed(2)}`)
      .join(''),
  );
  const CALLED: Record<string, string> = { room: 'room', reading: 'sentences' };
  const STRIP = 13;
  /** Stretches of one part of the check. */
  const runs = $derived.by(() => {
    const found: { part: string; x: number; end: number }[] = [];
    for (const { part, x } of drawn) {
      const before = found.at(-1);
      if (before?.part === part) before.end = x + step;
      else found.push({ part, x, end: x + step });
    }
    return found.filter(({ part }) => part in CALLED);
  });
  const now = $derived(levels.at(-1));
  const said = $derived(
    now
      ? `Level of the last ${SHOWN_S} s. Now peaks at ${now.peak_dbfs === null ? 'silence' : `${number(now.peak_dbfs, 0)} dBFS`}.`
      : 'Nothing is listened to yet.',
  );
</script>

<div class="picture" bind:clientWidth={outer}>
  <svg width={frame.width} height={HEIGHT} role="img" aria-label={said}>
    {#if aim}<rect class="aim" x={LEFT} width={frame.plot} y={y(aim[1])} height={y(aim[0]) - y(aim[1])} />{/if}
    {#each [0, -20, -40, -60, -80] as mark (mark)}
      <line class="grid" x1={LEFT} x2={frame.right} y1={y(mark)} y2={y(mark)} />
      <text class="scale" x={LEFT - 8} y={y(mark) + 4}>{number(mark, 0)}</text>
    {/each}
    <path class="peaks" d={area} />
    <path class="level" d={level} />
    {#each drawn as { x, clipped }, place (place)}
      {#if clipped}<rect class="clipped" {x} width={step} y={TOP} height="6" />{/if}
    {/each}
    {#each runs as { part, x, end } (x)}
      <rect class={part} {x} width={end - x} y={HEIGHT - BOTTOM - STRIP} height={STRIP} />
      {#if end - x > 60}<text class="part" x={x + 6} y={HEIGHT - BOTTOM - 3}>{CALLED[part]}</text>{/if}
    {/each}
    {#if aim}
      <text
        class={['name', { narrow: frame.narrow }]}
        x={frame.right + (frame.narrow ? -4 : 8)}
        y={(y(aim[0]) + y(aim[1])) / 2 + 4}>Peaks {number(aim[0], 0)} to {number(aim[1], 0)}</text
      >
    {/if}
    {#each frame.x.ticks(frame.narrow ? 3 : 6) as tick (tick)}
      <text class="time" x={frame.x(tick)} y={HEIGHT - 4}>{tick === 0 ? 'now' : `${number(-tick, 0)} s ago`}</text>
    {/each}
  </svg>
</div>

<style>
  .picture {
    position: relative;
    background: var(--sheet);
    border: 1px solid var(--rule);
    overflow: hidden;
  }
  svg {
    display: block;
  }
  .aim {
    fill: color-mix(in srgb, var(--inside) 13%, transparent);
  }
  .grid {
    stroke: var(--rule);
    stroke-width: 0.6;
  }
  .scale,
  .time {
    font: var(--type-axis) var(--figures);
    fill: var(--soft);
    text-anchor: end;
  }
  .time {
    text-anchor: middle;
  }
  .peaks {
    fill: color-mix(in srgb, var(--ink) 32%, transparent);
  }
  .level {
    fill: none;
    stroke: var(--ink);
    stroke-width: 1.4;
  }
  .clipped {
    fill: var(--outside);
  }
  .room {
    fill: var(--soft);
  }
  .reading {
    fill: var(--act);
  }
  .part {
    font: var(--type-axis) var(--words);
    fill: var(--sheet);
  }
  .name {
    font: var(--type-axis) var(--words);
    fill: var(--inside);
  }
  .narrow {
    text-anchor: end;
  }
</style>
