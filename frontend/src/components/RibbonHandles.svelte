<script lang="ts">
  // What can be moved on the ribbon, each held at a grip: drawn with the pointer, or moved by key and set with Enter.
  import type { Handle } from '../lib/handles';
  import { FLOOR, LEFT, timeAt, TOP, type Frame } from '../lib/ribbon-geometry';
  interface Props {
    frame: Frame;
    handles: Handle[];
    /** A grip that is pressed and not moved goes there. */
    onseek: (seconds: number) => void;
  }
  let { frame, handles, onseek }: Props = $props();

  const STEP_S = 0.05;
  const FAR = 3;
  /** By how much one is being moved, so that it means the same where what is beneath it changes meanwhile. */
  let moving = $state<{ key: string; by: number; from?: number }>();
  const within = ({ least, most }: Handle, at: number) => Math.max(least, Math.min(at, most));
  const placeOf = (handle: Handle) =>
    moving?.key === handle.key && moving.by !== 0 ? within(handle, handle.at + moving.by) : handle.at;
  const shown = $derived(
    handles
      .map((handle) => ({ handle, to: placeOf(handle), x: frame.x(placeOf(handle)) }))
      .filter(({ handle, x }) => (x >= LEFT && x <= frame.right) || moving?.key === handle.key),
  );
  type Pointed = PointerEvent & { currentTarget: HTMLElement };

  function onpointerdown(event: Pointed, handle: Handle): void {
    if (event.button) return;
    event.stopPropagation();
    event.currentTarget.setPointerCapture(event.pointerId);
    moving = { key: handle.key, by: 0, from: event.clientX };
  }
  function onpointermove(event: Pointed, handle: Handle): void {
    if (moving?.key !== handle.key || moving.from === undefined) return;
    event.stopPropagation();
    if (Math.abs(event.clientX - moving.from) <= FAR && moving.by === 0) return;
    const box = event.currentTarget.offsetParent?.getBoundingClientRect();
    moving.by = within(handle, timeAt(frame, event.clientX - (box?.left ?? 0))) - handle.at;
  }
  function onpointerup(event: Pointed, handle: Handle): void {
    if (moving?.key !== handle.key) return;
    event.stopPropagation();
    const to = placeOf(handle);
    moving = undefined;
    if (to === handle.at) onseek(handle.at);
    else void handle.move(to);
  }
  function onkeydown(event: KeyboardEvent, handle: Handle): void {
    const by = { ArrowLeft: -STEP_S, ArrowRight: STEP_S }[event.key];
    const now = placeOf(handle);
    if (by !== undefined)
      moving = { key: handle.key, by: within(handle, now + by * (event.shiftKey ? 10 : 1)) - handle.at };
    else if (event.key === 'Enter' || event.key === 'Escape') {
      moving = undefined;
      if (event.key === 'Enter' && now !== handle.at) void handle.move(now);
    } else return;
    event.preventDefault();
  }
</script>

{#each shown as { handle, to, x } (handle.key)}
  {@const moved = to !== handle.at}
  {#if moved}<div
      class="line"
      style:left={`${x}px`}
      style:top={`${TOP}px`}
      style:height={`${FLOOR - TOP}px`}
    ></div>{/if}
  <div
    class={['grip', handle.edge, { moved }]}
    style:left={`${x}px`}
    style:top={`${handle.edge === 'top' ? TOP : FLOOR}px`}
    role="slider"
    tabindex="0"
    aria-label={handle.name}
    aria-valuemin={handle.least}
    aria-valuemax={handle.most}
    aria-valuenow={to}
    aria-valuetext={moved ? `${handle.said(to)}, set with Enter` : handle.said(to)}
    title={`${handle.name}: ${handle.said(to)}. Drag, or move with ← and → and set with Enter.`}
    onpointerdown={(event) => onpointerdown(event, handle)}
    onpointermove={(event) => onpointermove(event, handle)}
    onpointerup={(event) => onpointerup(event, handle)}
    onpointercancel={() => (moving = undefined)}
    onkeydown={(event) => onkeydown(event, handle)}
    onblur={() => (moving = undefined)}
  ></div>
  {#if moved}
    <span class={['said', handle.edge, { late: x > (LEFT + frame.right) / 2 }]} style:left={`${x}px`}
      >{handle.said(to)}</span
    >
  {/if}
{/each}

<style>
  .grip {
    position: absolute;
    width: 24px;
    height: 24px;
    translate: -50% 0;
    cursor: ew-resize;
    touch-action: none;
  }
  .grip.bottom {
    translate: -50% -100%;
  }
  .grip::after {
    content: '';
    position: absolute;
    inset: 4px 9px;
    border: solid var(--act);
    border-width: 0 2px;
    background: var(--sheet);
  }
  .grip:hover::after,
  .grip:focus-visible::after,
  .moved::after {
    background: var(--act);
  }
  .line {
    position: absolute;
    width: 0;
    border-left: 1.5px dashed var(--act);
    pointer-events: none;
  }
  .said {
    position: absolute;
    padding: 0 var(--space-3);
    margin: 0 var(--space-5);
    font: var(--type-axis) var(--figures);
    color: var(--act);
    background: var(--sheet);
    pointer-events: none;
    white-space: nowrap;
  }
  .said.top {
    top: 10px;
  }
  .said.bottom {
    bottom: 46px;
  }
  .late {
    translate: calc(-100% - 2 * var(--space-5)) 0;
  }
</style>
