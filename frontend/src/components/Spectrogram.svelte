<script lang="ts">
  // How strong each pitch is at each time: the core's picture in its frame, with the axis of pitch beside it.
  import { scaleLog } from 'd3-scale';
  import { untrack } from 'svelte';
  import { clock } from '../lib/format';
  import { named } from '../lib/levels';
  import type { RibbonView } from '../lib/ribbon-view.svelte';
  import { theme } from '../lib/theme.svelte';
  interface Props {
    recordingId: string;
    /** What its sound is known by. */
    as: string | undefined;
    view: RibbonView;
    rate: number;
    left: number;
    top: number;
    width: number;
    height: number;
  }
  let { recordingId, as, view, rate, left, top, width, height }: Props = $props();
  /** What is drawn now, and where it lies in time: it moves along until the next one has come. */
  let shown = $state<{ address: string; start: number; end: number; low: number; high: number }>();
  let problem = $state('');
  const wanted = $derived({
    start: view.start,
    end: view.end,
    columns: Math.min(2000, Math.round(width)),
    rows: height,
  });
  $effect(() => {
    const { start, end, columns, rows } = wanted;
    if (end <= start) return;
    const waited = new AbortController();
    const timer = setTimeout(
      () => void load(start, end, columns, rows, waited.signal),
      untrack(() => (shown ? 140 : 0)),
    );
    return () => {
      clearTimeout(timer);
      waited.abort();
    };
  });
  async function load(start: number, end: number, columns: number, rows: number, signal: AbortSignal): Promise<void> {
    const asked = `start_s=${start}&end_s=${end}&columns=${columns}&rows=${rows}`;
    const picture = named(`/api/recordings/${recordingId}/spectrogram.png?${asked}`, as);
    const response = await fetch(picture, { signal }).catch(() => undefined);
    if (!response) return;
    if (!response.ok) {
      problem = ((await response.json()) as { error?: string }).error ?? 'The picture could not be made.';
      return;
    }
    const axes = JSON.parse(response.headers.get('x-axes') ?? '{}') as Record<string, number>;
    const address = URL.createObjectURL(await response.blob());
    if (shown) URL.revokeObjectURL(shown.address);
    problem = '';
    shown = { address, start, end, low: axes['low_hz'] ?? 50, high: axes['high_hz'] ?? rate / 2 };
  }
  $effect(() => () => {
    if (shown) URL.revokeObjectURL(shown.address);
  });
  const pitch = $derived(
    scaleLog()
      .domain([shown?.low ?? 50, shown?.high ?? Math.min(20_000, rate / 2)])
      .range([top + height, top]),
  );
  const MARKS = [50, 100, 200, 500, 1_000, 2_000, 5_000, 10_000, 20_000];
  const marks = $derived(MARKS.filter((hz) => hz >= (pitch.domain()[0] ?? 0) && hz <= (pitch.domain()[1] ?? 0)));
  const name = (hz: number) => (hz >= 1000 ? `${hz / 1000}k` : String(hz));
</script>

<div
  class="frame"
  style:left={`${left}px`}
  style:top={`${top}px`}
  style:width={`${width}px`}
  style:height={`${height}px`}
>
  {#if shown}
    <img
      src={shown.address}
      alt={`Spectrogram from ${clock(shown.start)} to ${clock(shown.end)}, ${name(Math.round(shown.low))} to ${name(Math.round(shown.high / 100) * 100)} Hz, ${theme.dark ? 'lighter' : 'darker'} where it is stronger`}
      class:night={theme.dark}
      data-from={shown.start}
      data-to={shown.end}
      style:left={`${((shown.start - view.start) / view.span) * width}px`}
      style:width={`${((shown.end - shown.start) / view.span) * width}px`}
    />
  {/if}
  <p role="status">{shown ? '' : problem || 'Drawing the spectrogram …'}</p>
</div>
<svg width={left + width} height={top + height + 4} aria-hidden="true">
  {#each marks as hz (hz)}
    <line x1={left} x2={left + width} y1={pitch(hz)} y2={pitch(hz)} />
    <text x={left - 6} y={pitch(hz) + 4}>{name(hz)}</text>
  {/each}
</svg>

<style>
  .frame,
  svg {
    position: absolute;
    overflow: hidden;
  }
  svg {
    left: 0;
    top: 0;
    pointer-events: none;
  }
  img {
    position: absolute;
    top: 0;
    height: 100%;
    pointer-events: none;
  }
  .night {
    filter: invert(1);
  }
  p {
    padding: var(--space-5);
    color: var(--soft);
  }
  line {
    stroke: var(--act);
    stroke-width: 0.5;
    opacity: 0.28;
  }
  text {
    font: var(--type-axis) var(--figures);
    fill: var(--soft);
    text-anchor: end;
  }
</style>
