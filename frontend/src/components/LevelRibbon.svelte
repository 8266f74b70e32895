<script lang="ts">
  // Level over time on a decibel axis, with every level limit as a line in the same picture; from the whole file to its samples.
  import { scaleLinear } from 'd3-scale';
  import type { Foretold, LimitVerdict, Pause, Ribbon, Turn } from '../lib/api';
  import { clock, number } from '../lib/format';
  import { amplitude, Levels, type Sound } from '../lib/levels';
  import { apart, limitLines, NAME_HEIGHT } from '../lib/limit-lines';
  import type { Place } from '../lib/places';
  import { quantity } from '../lib/quantities';
  import type { Reduction } from '../lib/reduction';
  import { deepest, draw, waveAt } from '../lib/ribbon-drawing';
  import type { RibbonView } from '../lib/ribbon-view.svelte';
  import type { Tracks } from '../lib/tracks';
  import Spectrogram from './Spectrogram.svelte';
  interface Props {
    recordingId: string;
    view: RibbonView;
    ribbon: Ribbon;
    /** What is drawn: the recording, or the treated version. */
    sound: Sound;
    tracks: Tracks | null | undefined;
    reduction: Reduction | null | undefined;
    limits: LimitVerdict[];
    pauses: Pause[];
    /** Passages of two voices: those of the second are marked along the top. */
    turns: Turn[];
    places: Place[];
    playhead: number;
    /** Whether it moves by itself: then nothing is said of where it is. */
    playing: boolean;
    /** What a draft is expected to make of the recording: dashed over the recording's own ribbon. */
    expected?: Foretold;
    /** Where a reading that is pointed at was taken. */
    marked?: { from: number; to: number };
    onseek: (seconds: number) => void;
    ongo: (place: Place) => void;
  }
  let {
    recordingId,
    view,
    ribbon,
    sound,
    tracks,
    reduction,
    limits,
    pauses,
    turns,
    places,
    playhead,
    playing,
    expected,
    marked,
    onseek,
    ongo,
  }: Props = $props();
  const rate = $derived(sound.rate);

  let outer = $state(1200);
  const width = $derived(Math.max(outer, 200));
  /** On a narrow screen the limits' names stand in the picture. */
  const narrow = $derived(width < 560);
  const HEIGHT = 222;
  const LANE = 17; // where the numbers of the places stand
  const LEFT = 44;
  const BOTTOM = 22;
  const RIGHT = $derived(narrow ? 8 : 132);
  const [TOP, FLOOR] = [6, HEIGHT - BOTTOM - LANE];
  const y = scaleLinear().domain([0, -80]).range([TOP, FLOOR]);
  const plot = $derived(width - LEFT - RIGHT);
  const x = $derived(
    scaleLinear()
      .domain([view.start, view.end])
      .range([LEFT, width - RIGHT]),
  );
  const shownAt = (seconds: number) => seconds >= view.start && seconds <= view.end;

  let more = $state(0);
  // Both sides are held: turning from one to the other and back draws at once what was there.
  let held: Levels[] = [];
  const levels = $derived.by(() => {
    const same = ({ sound: it }: Levels) => it.address === sound.address && it.offset === sound.offset;
    const found = held.find(same) ?? new Levels(sound, ribbon, () => (more += 1));
    held = [found, ...held.filter((each) => each !== found)].slice(0, 4);
    return found;
  });
  let canvas: HTMLCanvasElement | undefined = $state();
  $effect(() => {
    void more;
    if (!canvas || view.picture === 'spectrogram') return;
    const bound = floor?.high ?? Infinity;
    const place = { width: plot, height: HEIGHT, top: TOP, floor: FLOOR, y };
    draw(canvas, { view, levels, ...place, tallest, pauses, bound, expected, reduction, tracks });
    canvas.dataset.settled = String(levels.settled);
  });
  // The wave is drawn as tall as it can be without leaving the picture, in round steps.
  const STEPS = [1, 0.5, 0.2, 0.1, 0.05, 0.02, 0.01, 0.005, 0.002, 0.001];
  const tallest = $derived.by(() => {
    void more;
    if (!view.wave || view.span <= 0) return 1;
    const highest = Math.max(
      ...levels
        .columns(view.start, view.span / 400, 400)
        .map((it) => Math.max(it.high ?? 0, -(it.low ?? 0), amplitude(it.peak))),
    );
    return STEPS.findLast((step) => step >= highest) ?? 1;
  });

  const floor = $derived(limits.find((limit) => quantity(limit.quantity).is_room && limit.high !== null));
  const drawn = $derived(limitLines(limits));
  const corridors = $derived(drawn.filter((each) => each.corridor));
  const lines = $derived(drawn.filter((each) => !each.corridor));
  const labels = $derived.by(() => {
    const lowest = deepest({ reduction, expected });
    const moved = lowest < -0.05 ? `gain ${expected ? '' : 'moved '}to ${number(lowest, 1)} dB` : '';
    return apart([
      ...drawn.map(({ rows, low, high, broken }) => ({ rows, at: (y(low) + y(high)) / 2 + 4, broken, gain: false })),
      ...(moved ? [{ rows: [moved], at: 30, broken: false, gain: true }] : []),
    ]);
  });
  // Each place in view; a number is only written where it does not cover the one before.
  const pins = $derived.by(() => {
    let free = -Infinity;
    return places
      .filter((place) => !place.whole && place.end_s >= view.start && place.start_s <= view.end)
      .sort((one, other) => one.number - other.number)
      .map((place) => {
        const at = x((place.start_s + place.end_s) / 2);
        const numbered = at - free > 8 + 6 * String(place.number).length;
        if (numbered) free = at;
        return { ...place, at, numbered };
      });
  });
  const time = (seconds: number) => {
    const decimals = view.span > 20 ? 0 : view.span > 2 ? 1 : view.span > 0.2 ? 2 : view.span > 0.02 ? 3 : 4;
    return clock(seconds, decimals);
  };
  const said = $derived(
    `Level over ${clock(view.duration)}, shown from ${time(view.start)} to ${time(view.end)}.` +
      limits
        .filter((limit) => typeof limit.reading === 'number' && limit.unit.startsWith('dB'))
        .map((limit) => ` ${limit.title} ${number(limit.reading as number, 1)} ${limit.unit}, ${limit.position}.`)
        .join(''),
  );

  // Where the playhead is and what lies ahead, for those who hear it; while it plays the sound itself is heard.
  const spoken = $derived.by(() => {
    const next = places
      .filter((place) => !place.whole && place.start_s > playhead + 0.51)
      .sort((one, other) => one.start_s - other.start_s)[0];
    const here = places.filter((place) => !place.whole && place.start_s <= playhead + 0.5 && place.end_s >= playhead);
    return [
      `${clock(playhead, 1)} of ${clock(view.duration, 1)}`,
      ...here.map((place) => `here ${place.number}, ${place.group}`),
      next
        ? `next ${next.number}, ${next.group}, in ${number(next.start_s - playhead, 1)} s`
        : 'nothing is marked ahead',
    ].join('; ');
  });
  let kept = $state('');
  $effect(() => {
    if (!playing) kept = spoken;
  });

  // A click goes there, a drag selects; the wheel with Ctrl comes closer, sideways it moves.
  let pressed = $state<{ at: number; from: number }>();
  const inside = (event: { clientX: number; currentTarget: Element }) =>
    x.invert(Math.max(LEFT, Math.min(event.clientX - event.currentTarget.getBoundingClientRect().left, width - RIGHT)));

  /** The place whose number or stroke in the lane below is pointed at. */
  function pinAt(event: PointerEvent & { currentTarget: HTMLElement }): Place | undefined {
    const box = event.currentTarget.getBoundingClientRect();
    const [left, top] = [event.clientX - box.left, event.clientY - box.top];
    if (top < FLOOR || top > HEIGHT - BOTTOM + 2) return undefined;
    const reach = (pin: (typeof pins)[number]) => {
      const over = left >= x(pin.start_s) - 2 && left <= x(pin.end_s) + 2;
      return Math.min(over ? 1 : Infinity, pin.numbered ? Math.abs(left - pin.at) : Infinity);
    };
    const nearest = [...pins].sort((one, other) => reach(one) - reach(other))[0];
    return nearest && reach(nearest) <= 9 ? nearest : undefined;
  }
  let over = $state<Place>();

  function onpointermove(event: PointerEvent & { currentTarget: HTMLElement }): void {
    if (pressed && Math.abs(event.clientX - pressed.at) > 3) view.select(pressed.from, inside(event));
    else over = pinAt(event);
  }
  function onpointerup(event: PointerEvent & { currentTarget: HTMLElement }): void {
    if (pressed && Math.abs(event.clientX - pressed.at) <= 3) {
      const pin = pinAt(event);
      if (pin) ongo(pin);
      else {
        view.selection = undefined;
        onseek(inside(event));
      }
    }
    pressed = undefined;
  }
  function wheel(area: HTMLElement) {
    const turned = (event: WheelEvent) => {
      const sideways = Math.abs(event.deltaX) > Math.abs(event.deltaY) || event.shiftKey;
      if (!event.ctrlKey && !event.metaKey && (!sideways || view.whole)) return;
      event.preventDefault();
      if (sideways) view.pan(((event.deltaX || event.deltaY) / plot) * view.span);
      else view.zoom(1.0025 ** -event.deltaY, x.invert(event.clientX - area.getBoundingClientRect().left));
    };
    area.addEventListener('wheel', turned, { passive: false });
    return () => area.removeEventListener('wheel', turned);
  }
</script>

<!-- The keys of the strip below do all of this too; this is the pointer's way. -->
<div
  class="ribbon"
  role="presentation"
  {@attach wheel}
  onpointerdown={(event) => {
    if (event.button) return;
    pressed = { at: event.clientX, from: inside(event) };
    event.currentTarget.setPointerCapture(event.pointerId);
  }}
  {onpointermove}
  {onpointerup}
  ondblclick={() => view.selection && view.show(view.selection.from, view.selection.to)}
  onpointerleave={() => (over = undefined)}
  class:pointing={over !== undefined}
  title={over ? `${over.number}: ${over.group}${over.said ? `, ${over.said}` : ''}` : undefined}
  bind:clientWidth={outer}
>
  <svg class="under" {width} height={HEIGHT} aria-hidden="true">
    {#if view.picture === 'spectrogram'}{:else if view.wave}
      {#each [tallest, 0, -tallest] as value (value)}
        {@const at = waveAt({ top: TOP, floor: FLOOR, tallest }, value)}
        <line class="grid" x1={LEFT} x2={width - RIGHT} y1={at} y2={at} />
        <text class="scale" x={LEFT - 8} y={at + 4}>{String(value).replace('-', '−')}</text>
      {/each}
    {:else}
      {#each corridors as { limit, low, high } (limit.quantity)}
        <rect class="corridor" x={LEFT} width={plot} y={y(high)} height={y(low) - y(high)} />
      {/each}
      {#each [0, -20, -40, -60, -80] as level (level)}
        <line class="grid" x1={LEFT} x2={width - RIGHT} y1={y(level)} y2={y(level)} />
        <text class="scale" x={LEFT - 8} y={y(level) + 4}>{number(level, 0)}</text>
      {/each}
    {/if}
  </svg>
  {#if view.picture === 'spectrogram'}
    <Spectrogram {recordingId} {view} {rate} left={LEFT} top={TOP} width={plot} height={FLOOR - TOP} />
  {/if}
  <canvas
    hidden={view.picture === 'spectrogram'}
    bind:this={canvas}
    style:left={`${LEFT}px`}
    style:width={`${plot}px`}
    style:height={`${HEIGHT}px`}
  ></canvas>
  <svg {width} height={HEIGHT} role="img" aria-label={said}>
    {#if marked && marked.to >= view.start && marked.from <= view.end}
      {@const from = Math.max(LEFT, x(marked.from))}
      <rect
        class="marked"
        x={from}
        width={Math.max(3, Math.min(width - RIGHT, x(marked.to)) - from)}
        y={TOP}
        height={FLOOR - TOP}
      />
    {/if}
    {#if view.selection}
      <rect
        class="selection"
        x={Math.max(LEFT, x(view.selection.from))}
        width={Math.max(1, Math.min(width - RIGHT, x(view.selection.to)) - Math.max(LEFT, x(view.selection.from)))}
        y={TOP}
        height={FLOOR - TOP}
      />
    {/if}
    {#if view.picture === 'levels'}
      {#each lines as { limit, high, broken } (limit.quantity)}
        <line class="limit" class:broken x1={LEFT} x2={width - RIGHT} y1={y(high)} y2={y(high)} />
      {/each}
      {#each labels as { rows, at, broken, gain } (rows.join(' '))}
        <text class="label" class:narrow class:broken class:gain y={at}
          >{#each rows as row, index (index)}<tspan
              x={narrow ? width - RIGHT - 4 : width - RIGHT + 8}
              dy={index ? NAME_HEIGHT : 0}>{index ? ` ${row}` : row}</tspan
            >{/each}</text
        >
      {/each}
    {/if}
    {#each turns as turn, at (at)}
      {#if turn.voice === 1 && turn.end_s >= view.start && turn.start_s <= view.end}
        {@const from = Math.max(LEFT, x(turn.start_s))}
        <rect
          class="turn"
          x={from}
          width={Math.max(1.5, Math.min(width - RIGHT, x(turn.end_s)) - from)}
          y="0"
          height="4"
        />
      {/if}
    {/each}
    {#each pins as pin (pin.number)}
      {@const from = Math.max(LEFT, x(pin.start_s))}
      <rect
        class="finding"
        class:outside={pin.outside}
        x={from}
        width={Math.max(1.5, Math.min(width - RIGHT, x(pin.end_s)) - from)}
        y={HEIGHT - BOTTOM - 4}
        height="4"
      />
      {#if pin.numbered && pin.at >= LEFT && pin.at <= width - RIGHT}<text
          class="pin"
          class:outside={pin.outside}
          x={pin.at}
          y={HEIGHT - BOTTOM - 6}>{pin.number}</text
        >{/if}
    {/each}
    {#if shownAt(playhead)}<line
        class="playhead"
        x1={x(playhead)}
        x2={x(playhead)}
        y1={TOP}
        y2={HEIGHT - BOTTOM}
      />{/if}
    {#each x.ticks(narrow ? 4 : 10) as second (second)}
      <line class="tick" x1={x(second)} x2={x(second)} y1={HEIGHT - BOTTOM} y2={HEIGHT - BOTTOM + 4} />
      <text class="time" x={x(second)} y={HEIGHT - 4}>{time(second)}</text>
    {/each}
  </svg>
  <div
    class="hold"
    role="slider"
    tabindex="0"
    aria-label="Playhead"
    aria-valuemin="0"
    aria-valuemax={Math.round(view.duration)}
    aria-valuenow={playing ? undefined : Math.round(playhead)}
    aria-valuetext={kept}
  ></div>
</div>

<style>
  .ribbon {
    position: relative;
    background: var(--sheet);
    border: 1px solid var(--rule);
    user-select: none;
    touch-action: pan-y;
    overflow: hidden;
  }
  svg {
    position: relative;
    display: block;
  }
  .hold {
    position: absolute;
    inset: 0;
  }
  .hold:focus-visible {
    outline-offset: -2px;
  }
  .under,
  canvas {
    position: absolute;
    top: 0;
  }
  canvas {
    color: var(--ink);
  }
  .turn {
    fill: var(--act);
  }
  .corridor {
    fill: color-mix(in srgb, var(--inside) 13%, transparent);
  }
  .selection {
    fill: color-mix(in srgb, var(--act) 20%, transparent);
    stroke: var(--act);
    stroke-width: 1;
  }
  .marked {
    fill: color-mix(in srgb, var(--near) 22%, transparent);
    stroke: var(--near);
    stroke-dasharray: 4 3;
  }
  .grid {
    stroke: var(--rule);
    stroke-width: 0.6;
  }
  .limit {
    stroke: var(--inside);
    stroke-width: 1.4;
  }
  .limit.broken {
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
  .time {
    text-anchor: middle;
  }
  .label {
    text-anchor: start;
    font-family: var(--words);
    fill: var(--inside);
  }
  .label.narrow {
    text-anchor: end;
  }
  .label.gain {
    fill: var(--act);
  }
  .pointing {
    cursor: pointer;
  }
  .label.broken {
    fill: var(--outside);
  }
  .tick {
    stroke: var(--soft);
  }
</style>
