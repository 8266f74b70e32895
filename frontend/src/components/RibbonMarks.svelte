<script lang="ts">
  // What lies over the ribbon: limits with their names, the selection, places with their numbers, the playhead and the axis of time.
  import type { EditView, Turn } from '../lib/api';
  import { NAME_HEIGHT, type LimitLine } from '../lib/limit-lines';
  import { across, BOTTOM, FLOOR, HEIGHT, LEFT, timeText, TOP, y, type Frame, type Pin } from '../lib/ribbon-geometry';
  import type { Span } from '../lib/ribbon-view.svelte';
  interface Props {
    frame: Frame;
    /** What the picture says to those who hear it. */
    said: string;
    /** Limits as lines, and names beside the picture. */
    lines: LimitLine[];
    labels: { rows: string[]; at: number; broken: boolean; gain: boolean }[];
    /** Passages of two voices: those of the second are marked along the top. */
    turns: Turn[];
    /** What was edited: joins, and room tone that was put in. */
    edits: EditView[];
    pins: Pin[];
    /** Where chapters begin, with their names where there is room. */
    chapters: { at: number; name: string }[];
    playhead: number;
    selection: Span | undefined;
    /** Where a reading that is pointed at was taken. */
    marked: Span | undefined;
  }
  let { frame, said, lines, labels, turns, edits, pins, chapters, playhead, selection, marked }: Props = $props();
  const held = $derived(selection && across(frame, selection.from, selection.to));
  const taken = $derived(marked && across(frame, marked.from, marked.to, 3));
</script>

<svg width={frame.width} height={HEIGHT} role="img" aria-label={said}>
  {#if taken}<rect class="marked" {...taken} y={TOP} height={FLOOR - TOP} />{/if}
  {#if held}<rect class="selection" {...held} y={TOP} height={FLOOR - TOP} />{/if}
  {#each lines as { limit, high, broken } (limit.quantity)}
    <line class="limit" class:broken x1={LEFT} x2={frame.right} y1={y(high)} y2={y(high)} />
  {/each}
  {#each labels as { rows, at, broken, gain } (rows.join(' '))}
    <text class="label" class:narrow={frame.narrow} class:broken class:gain y={at}
      >{#each rows as row, index (index)}<tspan x={frame.right + (frame.narrow ? -4 : 8)} dy={index ? NAME_HEIGHT : 0}
          >{index ? ` ${row}` : row}</tspan
        >{/each}</text
    >
  {/each}
  {#each turns as turn, at (at)}
    {@const passage = turn.voice === 1 && across(frame, turn.start_s, turn.end_s, 1.5)}
    {#if passage}<rect class="turn" {...passage} y="0" height="4" />{/if}
  {/each}
  {#each edits as { number, at_s, put_s } (number)}
    {@const put = across(frame, at_s, at_s + put_s, 1.5)}
    {#if put}
      <rect class="put" {...put} y={TOP} height={FLOOR - TOP} />
      <path class="join" d={`M${put.x} ${TOP} v${FLOOR - TOP} m-4 0 h8`} />
    {/if}
  {/each}
  {#each pins as pin (pin.number)}
    {@const place = across(frame, pin.start_s, pin.end_s, 1.5)}
    {#if place}
      <rect class="finding" class:outside={pin.outside} {...place} y={HEIGHT - BOTTOM - 4} height="4" />
    {/if}
    {#if pin.numbered && pin.at >= LEFT && pin.at <= frame.right}
      <text class="pin" class:outside={pin.outside} x={pin.at} y={HEIGHT - BOTTOM - 6}>{pin.number}</text>
    {/if}
  {/each}
  {#each chapters as { at, name }, place (place)}
    <line class="chapter" x1={at} x2={at} y1={TOP} y2={FLOOR} />
    {#if name}<text class="chapter" x={at + 8} y={TOP + 16}>{name}</text>{/if}
  {/each}
  {#if playhead >= frame.start && playhead <= frame.end}
    {@const at = frame.x(playhead)}
    <line class="playhead" x1={at} x2={at} y1={TOP} y2={HEIGHT - BOTTOM} />
  {/if}
  {#each frame.x.ticks(frame.narrow ? 4 : 10) as second (second)}
    {@const at = frame.x(second)}
    <line class="tick" x1={at} x2={at} y1={HEIGHT - BOTTOM} y2={HEIGHT - BOTTOM + 4} />
    <text class="time" x={at} y={HEIGHT - 4}>{timeText(second, frame.end - frame.start)}</text>
  {/each}
</svg>

<style>
  svg {
    position: relative;
    display: block;
  }
  .turn {
    fill: var(--act);
  }
  .put {
    fill: color-mix(in srgb, var(--soft) 16%, transparent);
  }
  .join {
    fill: none;
    stroke: var(--soft);
    stroke-width: 1.5;
    stroke-dasharray: 2 3;
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
    font: 600 var(--type-axis) var(--figures);
    fill: var(--near);
    text-anchor: middle;
  }
  .finding.outside,
  .pin.outside {
    fill: var(--outside);
  }
  line.chapter {
    stroke: var(--ink);
    stroke-width: 1;
  }
  text.chapter {
    font: 600 var(--type-axis) var(--words);
    fill: var(--ink);
    stroke: var(--sheet);
    stroke-width: 3px;
    paint-order: stroke;
  }
  .playhead {
    stroke: var(--act);
    stroke-width: 1.5;
  }
  .time {
    font: var(--type-axis) var(--figures);
    fill: var(--soft);
    text-anchor: middle;
  }
  .label {
    font: var(--type-axis) var(--words);
    fill: var(--inside);
    text-anchor: start;
  }
  .label.narrow {
    text-anchor: end;
  }
  .label.gain {
    fill: var(--act);
  }
  .label.broken {
    fill: var(--outside);
  }
  .tick {
    stroke: var(--soft);
  }
</style>
