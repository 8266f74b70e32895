<script lang="ts">
  // One step of a treatment: its number, which is its handle, and its sentence; what speaks against it stands below.
  import type { ReadStep } from '../lib/api';
  import BracketMark from './BracketMark.svelte';
  import StepSentence from './StepSentence.svelte';
  interface Props {
    step: ReadStep;
    number: number;
    count: number;
    /** Whether it is the one whose picture is shown. */
    open: boolean;
    /** Where it would land while it is dragged: a line is drawn there. */
    landing: 'above' | 'below' | undefined;
    dragged: boolean;
    onopen: () => void;
    onset: (path: string, value: unknown) => Promise<void>;
    onmove: (to: number) => void;
    onturn: () => void;
    onremove: () => void;
    ongrab: (event: PointerEvent) => void;
  }
  let { step, number, count, open, landing, dragged, onopen, onset, onmove, onturn, onremove, ongrab }: Props =
    $props();
  const title = $derived(step.reading.title);

  function onkeydown(event: KeyboardEvent): void {
    if (event.altKey && (event.key === 'ArrowUp' || event.key === 'ArrowDown')) {
      event.preventDefault();
      const to = number - 1 + (event.key === 'ArrowUp' ? -1 : 1);
      if (to >= 0 && to < count) onmove(to);
    } else if (event.key === 'Delete' && event.target === event.currentTarget) onremove();
  }
</script>

<li
  class:open
  class:off={!step.on}
  class:dragged
  class:above={landing === 'above'}
  class:below={landing === 'below'}
  data-step={step.kind}
  data-id={step.id}
>
  <button
    type="button"
    class="handle"
    aria-label={`Step ${number}, ${title}`}
    aria-expanded={open}
    title="Click to open, drag or Alt and arrow keys to move, Delete to remove"
    onclick={onopen}
    onpointerdown={ongrab}
    {onkeydown}>{number}</button
  >
  <div class="said">
    <StepSentence {step} pieces={step.reading.pieces} {onset} />
    {#each step.problems ?? [] as said (said)}<p class="wrong" role="alert">
        <BracketMark position="over" size={12} silent />
        {said}
      </p>{/each}
    {#if step.order}<p class="order"><BracketMark position="near" size={12} silent /> {step.order}</p>{/if}
  </div>
  <span class="acts">
    <button type="button" aria-pressed={step.on} aria-label={`${title} on`} onclick={onturn}
      >{step.on ? 'on' : 'off'}</button
    >
    <button type="button" aria-label={`Remove ${title}`} onclick={onremove}>×</button>
  </span>
</li>

<style>
  li {
    list-style: none;
    display: flex;
    gap: var(--space-2);
    align-items: baseline;
    padding: var(--space-2) var(--space-4) var(--space-2) var(--space-2);
    border-left: 3px solid transparent;
    position: relative;
    font-size: var(--type-text);
    line-height: 1.65;
  }
  li.open {
    border-left-color: var(--act);
    background: color-mix(in srgb, var(--paper) 55%, var(--sheet));
  }
  .off .said {
    opacity: 0.5;
    text-decoration: line-through;
    text-decoration-color: var(--soft);
  }
  .dragged {
    opacity: 0.5;
  }
  .above::before,
  .below::after {
    content: '';
    position: absolute;
    left: 0;
    right: 0;
    height: 2px;
    background: var(--act);
  }
  .above::before {
    top: -1px;
  }
  .below::after {
    bottom: -1px;
  }
  .handle {
    flex: none;
    width: 30px;
    border: 0;
    background: none;
    font-family: var(--figures);
    font-size: var(--type-small);
    color: var(--soft);
    text-align: right;
    padding: 0 var(--space-3) 0 0;
    cursor: grab;
    touch-action: none;
  }
  .handle::after {
    content: '.';
  }
  .open .handle {
    color: var(--act);
    font-weight: 600;
  }
  .said {
    flex: 1;
    min-width: 0;
  }
  p {
    font-size: var(--type-small);
    line-height: 1.4;
    padding-bottom: var(--space-1);
  }
  .wrong {
    color: var(--outside);
  }
  .order {
    color: var(--near);
  }
  .acts {
    display: flex;
    gap: var(--space-4);
    opacity: 0;
  }
  li:hover .acts,
  li:focus-within .acts,
  .off .acts {
    opacity: 1;
  }
  .acts button {
    border: 0;
    background: none;
    padding: 0 var(--space-1);
    font-size: var(--type-small);
    color: var(--act);
    cursor: pointer;
  }
</style>
