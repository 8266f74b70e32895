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
  let away = $state(false);
  let up = $state(false);
  let back = $state(false);
  let word: HTMLElement | undefined = $state();

  /** The note hangs below its word and runs to the right, or above it and to the left where the window ends. */
  function show() {
    const box = word?.getBoundingClientRect();
    up = box !== undefined && window.innerHeight - box.bottom < 260 && box.top > 260;
    back = box !== undefined && window.innerWidth - box.left < 370;
    away = false;
  }
</script>

<svelte:window onkeydown={(event) => event.key === 'Escape' && (away = true)} />

{#if method}
  <span class="explained" class:away class:up class:back bind:this={word} role="presentation" onpointerenter={show}>
    <button type="button" aria-describedby={id} onfocus={show}>{text}</button>
    <span class="note" role="tooltip" {id}>
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
    position: relative;
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
  .explained:hover button,
  button:focus-visible {
    border-bottom-color: var(--soft);
  }
  .note {
    display: none;
    position: absolute;
    left: -10px;
    top: 100%;
    z-index: 20;
    width: min(360px, calc(100vw - 40px));
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
  .explained:not(.away):hover .note,
  .explained:not(.away) button:focus-visible + .note {
    display: grid;
  }
  .back .note {
    left: auto;
    right: -10px;
  }
  .up .note {
    top: auto;
    bottom: 100%;
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
