<script lang="ts">
  // A word that says what it means on hover, on focus and to a screen reader. Escape puts the note away.
  import type { Method } from '../lib/api';
  interface Props {
    text: string;
    method?: Method;
    /** What holds for this figure alone: how and where it was taken. */
    here?: string;
  }
  let { text, method, here = '' }: Props = $props();
  const id = $props.id();
  let word: HTMLElement | undefined = $state();
  let note: HTMLElement | undefined = $state();
  let open = $state(false);

  // In front of everything, so that no table cuts it off: below its word and to the right, or where there is room.
  $effect(() => {
    if (!open || !word || !note) return;
    const [from, over] = [word, note];
    let stop: (() => void) | undefined;
    let gone = false;
    void import('@floating-ui/dom').then(({ autoUpdate, computePosition, flip, shift }) => {
      if (gone) return;
      over.showPopover();
      stop = autoUpdate(from, over, async () => {
        const middleware = [flip(), shift({ padding: 8 })];
        const at = await computePosition(from, over, { strategy: 'fixed', placement: 'bottom-start', middleware });
        Object.assign(over.style, { left: `${at.x}px`, top: `${at.y}px` });
      });
    });
    return () => {
      gone = true;
      stop?.();
      over.hidePopover();
    };
  });
</script>

<svelte:window onkeydown={(event) => event.key === 'Escape' && (open = false)} />

{#if method}
  <span
    class="explained"
    class:open
    bind:this={word}
    role="presentation"
    onpointerenter={() => (open = true)}
    onpointerleave={() => (open = false)}
    onfocusin={() => (open = word?.querySelector(':focus-visible') !== null)}
    onfocusout={() => (open = false)}
  >
    <button type="button" aria-describedby={id}>{text}</button>
    <span class="note" role="tooltip" popover="manual" {id} bind:this={note}>
      <b>{method.title}</b>
      <span>{method.meaning}</span>
      {#if here}<span class="here">{here}</span>{/if}
      <span class="exact">{method.definition}</span>
    </span>
  </span>
{:else}
  {text}
{/if}

<style>
  .explained {
    display: inline-block;
  }
  button {
    border: 0;
    min-width: 24px;
    padding: var(--space-2) 0;
    margin: calc(var(--space-2) * -1) 0;
    background: none;
    font-weight: inherit;
    text-align: left;
    cursor: help;
    border-bottom: 1px solid transparent;
  }
  .open button {
    border-bottom-color: var(--soft);
  }
  .note {
    position: fixed;
    inset: auto;
    margin: 0;
    width: min(360px, calc(100vw - 16px));
    padding: var(--space-4) var(--space-5);
    background: var(--sheet);
    border: 1px solid var(--ink);
    font-size: var(--type-plain);
    font-weight: 400;
    line-height: 1.4;
    gap: var(--space-3);
    color: var(--ink);
    text-align: left;
    white-space: normal;
  }
  .note:popover-open {
    display: grid;
  }
  b {
    font-weight: 600;
  }
  .exact,
  .here {
    color: var(--soft);
    font-size: var(--type-small);
  }
</style>
