<script lang="ts">
  // A level while it comes in: peaks over the level, where peaks should lie, which part is what, and what was marked.
  import type { GrownColumn } from '../lib/growing';
  import { frameOf, HEIGHT, LEFT, TOP, FLOOR, BOTTOM, y } from '../lib/ribbon-geometry';
  import { number } from '../lib/format';
  interface Props {
    /** In the order of time, each with the part that it is of, if it is of any. */
    columns: (GrownColumn & { part?: string })[];
    shown: { start: number; end: number };
    /** A time as the axis writes it. */
    written: (seconds: number) => string;
    /** Where the peaks of the sentences should lie, in dBFS. */
    aim: [number, number] | undefined;
    marks?: number[];
    /** What the picture shows, in words. */
    said: string;
  }
  let { columns, shown, written, aim, marks = [], said }: Props = $props();
  let outer = $state(800);
  const frame = $derived(frameOf(outer, shown));
  const LEAST = -80;
  const at = (level: number | null) => y(Math.max(LEAST, Math.min(0, level ?? LEAST)));
  const drawn = $derived(
    columns.map(({ from, to, peak, rms, clipped, part }) => ({
      x: frame.x(from),
      wide: frame.x(to) - frame.x(from),
      peak: at(peak),
      rms: at(rms),
      clipped,
      part: part ?? '',
    })),
  );
  /** Stretches without a gap. */
  const stretches = $derived.by(() => {
    const found: (typeof drawn)[] = [];
    for (const column of drawn) {
      const before = found.at(-1)?.at(-1);
      if (before && column.x - before.x - before.wide < 0.5) found.at(-1)?.push(column);
      else found.push([column]);
    }
    return found;
  });
  const place = (pixels: number) => pixels.toFixed(1);
  const area = $derived(
    stretches
      .map(
        (one) =>
          `M${place(one[0]?.x ?? 0)} ${FLOOR}` +
          one.map(({ x, wide, peak }) => `L${place(x)} ${place(peak)}h${wide.toFixed(2)}`).join('') +
          `V${FLOOR}Z`,
      )
      .join(''),
  );
  const level = $derived(
    stretches
      .map((one) =>
        one.map(({ x, wide, rms }, n) => `${n ? 'L' : 'M'}${place(x)} ${place(rms)}h${wide.toFixed(2)}`).join(''),
      )
      .join(''),
  );
  const CALLED: Record<string, string> = { room: 'room', reading: 'sentences' };
  const STRIP = 13;
  /** Stretches of one part of the check. */
  const runs = $derived.by(() => {
    const found: { part: string; x: number; end: number }[] = [];
    for (const { part, x, wide } of drawn) {
      const before = found.at(-1);
      if (before?.part === part) before.end = x + wide;
      else found.push({ part, x, end: x + wide });
    }
    return found.filter(({ part }) => part in CALLED);
  });
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
    {#each drawn as { x, wide, clipped }, n (n)}
      {#if clipped}<rect class="clipped" {x} width={Math.max(wide, 2)} y={TOP} height="6" />{/if}
    {/each}
    {#each marks as mark, n (n)}
      <line class="mark" x1={frame.x(mark)} x2={frame.x(mark)} y1={TOP} y2={FLOOR + 6} />
      <path class="foot" d={`M${frame.x(mark) - 4} ${FLOOR + 12}h8l-4 -7z`} />
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
      <text class={['time', { narrow: frame.x(tick) > frame.width - 20 }]} x={frame.x(tick)} y={HEIGHT - 4}
        >{written(tick)}</text
      >
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
  .mark {
    stroke: var(--act);
    stroke-width: 1.2;
  }
  .foot {
    fill: var(--act);
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
