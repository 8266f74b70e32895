<script lang="ts">
  // Level over time on a decibel axis, with every level limit as a line in the same picture; from the whole file to its samples.
  import type { ChapterMark, EditView, Foretold, LimitVerdict, Pause, Ribbon, Turn } from '../lib/api';
  import { clock, number } from '../lib/format';
  import { filesOf } from '../lib/dropped';
  import { chaptersIn, type Handle } from '../lib/handles';
  import { Levels, type Sound } from '../lib/levels';
  import { apart, limitLines } from '../lib/limit-lines';
  import type { Place } from '../lib/places';
  import { quantity } from '../lib/quantities';
  import type { Reduction } from '../lib/reduction';
  import { deepest, draw } from '../lib/ribbon-drawing';
  import {
    FLOOR,
    frameOf,
    HEIGHT,
    LEFT,
    pinAt,
    pinsOf,
    spokenAt,
    tallestOf,
    timeAt,
    timeText,
    TOP,
    y,
    type Pin,
  } from '../lib/ribbon-geometry';
  import type { RibbonView } from '../lib/ribbon-view.svelte';
  import { theme } from '../lib/theme.svelte';
  import type { Tracks } from '../lib/tracks';
  import RibbonHandles from './RibbonHandles.svelte';
  import RibbonMarks from './RibbonMarks.svelte';
  import RibbonScale from './RibbonScale.svelte';
  import Spectrogram from './Spectrogram.svelte';
  interface Props {
    recordingId: string;
    /** What its sound is known by. */
    knownAs: string;
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
    edits: EditView[];
    places: Place[];
    /** Where chapters begin. */
    chapters: ChapterMark[];
    /** What can be moved. */
    handles: Handle[];
    playhead: number;
    /** Whether it moves by itself: then nothing is said of where it is. */
    playing: boolean;
    /** What a draft is expected to make of the recording: dashed over the recording's own ribbon. */
    expected?: Foretold;
    /** Where a reading that is pointed at was taken. */
    marked?: { from: number; to: number };
    onseek: (seconds: number) => void;
    ongo: (place: Place) => void;
    /** Take a short recording for the selection, or for the moment it was dropped on. */
    onfile?: (file: File, span: { start_s: number; end_s: number }) => unknown;
  }
  let {
    recordingId,
    knownAs,
    view,
    ribbon,
    sound,
    tracks,
    reduction,
    limits,
    pauses,
    turns,
    edits,
    places,
    chapters,
    handles,
    playhead,
    playing,
    expected,
    marked,
    onseek,
    ongo,
    onfile,
  }: Props = $props();

  let outer = $state(1200);
  /** As wide as there is room; on paper as wide as a sheet of A4 between its margins. */
  const PAPER = 650;
  const frame = $derived(frameOf(theme.printing ? PAPER : outer, view));

  let more = $state(0);
  // Both sides are held: turning from one to the other and back draws at once what was there.
  let held: Levels[] = [];
  const levels = $derived.by(() => {
    const same = ({ sound: it }: Levels) =>
      it.address === sound.address && it.as === sound.as && it.offset === sound.offset;
    const found = held.find(same) ?? new Levels(sound, ribbon, () => (more += 1));
    held = [found, ...held.filter((each) => each !== found)].slice(0, 4);
    return found;
  });
  const tallest = $derived.by(() => {
    void more;
    return view.wave && view.span > 0 ? tallestOf(levels.columns(view.start, view.span / 400, 400)) : 1;
  });
  let canvas: HTMLCanvasElement | undefined = $state();
  $effect(() => {
    void [more, theme.dark];
    if (!canvas || view.picture === 'spectrogram') return;
    const bound = floor?.high ?? Infinity;
    const place = { width: frame.plot, height: HEIGHT, top: TOP, floor: FLOOR, y };
    draw(canvas, { view, levels, ...place, tallest, pauses, bound, expected, reduction, tracks });
    canvas.dataset.settled = String(levels.settled);
  });

  const floor = $derived(limits.find((limit) => quantity(limit.quantity).is_room && limit.high !== null));
  const drawn = $derived(limitLines(limits));
  const labels = $derived.by(() => {
    const lowest = deepest({ reduction, expected });
    const moved = lowest < -0.05 ? `gain ${expected ? '' : 'moved '}to ${number(lowest, 1)} dB` : '';
    return apart([
      ...drawn.map(({ rows, low, high, broken }) => ({ rows, at: (y(low) + y(high)) / 2 + 4, broken, gain: false })),
      ...(moved ? [{ rows: [moved], at: 30, broken: false, gain: true }] : []),
    ]);
  });
  const pins = $derived(pinsOf(places, frame));
  const said = $derived(
    `Level over ${clock(view.duration)}, shown from ${timeText(view.start, view.span)} to ${timeText(view.end, view.span)}.` +
      limits
        .filter((limit) => typeof limit.reading === 'number' && limit.unit.startsWith('dB'))
        .map((limit) => ` ${limit.title} ${number(limit.reading as number, 1)} ${limit.unit}, ${limit.position}.`)
        .join(''),
  );
  // While it plays the sound itself is heard, and nothing is said.
  let kept = $state('');
  $effect(() => {
    if (!playing) kept = spokenAt(playhead, view.duration, places);
  });

  // A click goes there, a drag selects; the wheel with Ctrl comes closer, sideways it moves.
  type Pointed = PointerEvent & { currentTarget: HTMLElement };
  let pressed = $state<{ at: number; from: number }>();
  let over = $state<Pin>();
  const placeOf = ({ clientX, clientY, currentTarget }: Pointed) => {
    const box = currentTarget.getBoundingClientRect();
    return { left: clientX - box.left, top: clientY - box.top };
  };
  const pointedAt = (event: Pointed) => {
    const { left, top } = placeOf(event);
    return pinAt(pins, frame, left, top);
  };
  const inside = (event: Pointed) => timeAt(frame, placeOf(event).left);

  function onpointerdown(event: Pointed): void {
    if (event.button) return;
    pressed = { at: event.clientX, from: inside(event) };
    event.currentTarget.setPointerCapture(event.pointerId);
  }
  function onpointermove(event: Pointed): void {
    if (pressed && Math.abs(event.clientX - pressed.at) > 3) view.select(pressed.from, inside(event));
    else over = pointedAt(event);
  }
  function onpointerup(event: Pointed): void {
    if (pressed && Math.abs(event.clientX - pressed.at) <= 3) {
      const pin = pointedAt(event);
      if (pin) ongo(pin);
      else {
        view.selection = undefined;
        onseek(inside(event));
      }
    }
    pressed = undefined;
  }
  /** Where a file that is held over it would go. */
  let over_s = $state<number>();
  function ondragover(event: DragEvent & { currentTarget: HTMLElement }): void {
    if (!onfile) return;
    event.preventDefault();
    over_s = timeAt(frame, event.clientX - event.currentTarget.getBoundingClientRect().left);
  }
  function ondrop(event: DragEvent): void {
    const at = over_s;
    over_s = undefined;
    if (!onfile || at === undefined) return;
    event.preventDefault();
    const held = view.selection;
    const span = held ? { start_s: held.from, end_s: held.to } : { start_s: at, end_s: at };
    void filesOf(event.dataTransfer).then(({ files: [first] }) => first && onfile(first, span));
  }
  function wheel(area: HTMLElement) {
    const turned = (event: WheelEvent) => {
      const sideways = Math.abs(event.deltaX) > Math.abs(event.deltaY) || event.shiftKey;
      if (!event.ctrlKey && !event.metaKey && (!sideways || view.whole)) return;
      event.preventDefault();
      if (sideways) view.pan(((event.deltaX || event.deltaY) / frame.plot) * view.span);
      else view.zoom(1.0025 ** -event.deltaY, frame.x.invert(event.clientX - area.getBoundingClientRect().left));
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
  {onpointerdown}
  {onpointermove}
  {onpointerup}
  ondblclick={() => view.selection && view.show(view.selection.from, view.selection.to)}
  onpointerleave={() => (over = undefined)}
  {ondragover}
  {ondrop}
  ondragleave={() => (over_s = undefined)}
  class:pointing={over !== undefined}
  title={over ? `${over.number}: ${over.group}${over.said ? `, ${over.said}` : ''}` : undefined}
  bind:clientWidth={outer}
>
  {#if view.picture === 'spectrogram'}
    <Spectrogram
      {recordingId}
      as={knownAs}
      {view}
      rate={sound.rate}
      left={LEFT}
      top={TOP}
      width={frame.plot}
      height={FLOOR - TOP}
    />
  {:else}
    <RibbonScale {frame} corridors={drawn.filter((each) => each.corridor)} tallest={view.wave ? tallest : undefined} />
  {/if}
  <canvas
    hidden={view.picture === 'spectrogram'}
    bind:this={canvas}
    style:left={`${LEFT}px`}
    style:width={`${frame.plot}px`}
    style:height={`${HEIGHT}px`}
  ></canvas>
  <RibbonMarks
    {frame}
    {said}
    lines={view.picture === 'levels' ? drawn.filter((each) => !each.corridor) : []}
    labels={view.picture === 'levels' ? labels : []}
    {turns}
    {edits}
    {pins}
    chapters={chaptersIn(frame, chapters)}
    playhead={over_s !== undefined && !view.selection ? over_s : playhead}
    selection={view.selection}
    {marked}
  />
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
  <RibbonHandles {frame} {handles} {onseek} />
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
  .hold {
    position: absolute;
    inset: 0;
  }
  .hold:focus-visible {
    outline-offset: -2px;
  }
  canvas {
    position: absolute;
    top: 0;
    color: var(--ink);
  }
  .pointing {
    cursor: pointer;
  }
</style>
