<script lang="ts">
  // Every step that can be added, in the order of work, each with one line of what it is for.
  import type { OfferedStep, StepGroup } from '../lib/api';
  import Button from './Button.svelte';
  interface Props {
    groups: StepGroup[];
    onadd: (step: OfferedStep) => void;
  }
  let { groups, onadd }: Props = $props();
  let open = $state(false);

  /** Escape closes the list, and the button is where one was. */
  function closes(area: HTMLElement) {
    const pressed = (event: KeyboardEvent) => {
      if (event.key !== 'Escape' || !open) return;
      event.stopPropagation();
      open = false;
      area.querySelector('button')?.focus();
    };
    area.addEventListener('keydown', pressed);
    return () => area.removeEventListener('keydown', pressed);
  }
</script>

<div class="add" {@attach closes}>
  <Button onclick={() => (open = !open)}>{open ? 'Close the list' : 'Add step'}</Button>
  {#if open}
    <div class="list" role="group" aria-label="Steps to add">
      {#each groups as group (group.title)}
        <h3>{group.title}</h3>
        <ul>
          {#each group.steps as step (step.kind)}
            <li>
              <button
                type="button"
                onclick={() => {
                  open = false;
                  onadd(step);
                }}><b>{step.title}</b> <span>{step.purpose}</span></button
              >
            </li>
          {/each}
        </ul>
      {/each}
    </div>
  {/if}
</div>

<style>
  .list {
    display: grid;
    grid-template-columns: 132px minmax(0, 1fr);
    gap: var(--space-3) var(--space-5);
    margin-top: var(--space-4);
    border-top: 1px solid var(--rule);
    padding-top: var(--space-4);
  }
  h3 {
    font-size: var(--type-small);
    font-weight: 500;
    color: var(--soft);
    padding-top: var(--space-2);
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  button {
    width: 100%;
    text-align: left;
    border: 0;
    background: none;
    padding: var(--space-1) var(--space-2);
    font-size: var(--type-plain);
    cursor: pointer;
  }
  button:hover {
    background: var(--act-pale);
  }
  b {
    font-weight: 600;
    color: var(--act);
  }
  button span {
    color: var(--soft);
  }
</style>
