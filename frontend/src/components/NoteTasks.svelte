<script lang="ts">
  // What was noted of a recording's files, as something to do in it: where it is heard, and what was edited there since.
  import { createQuery } from '@tanstack/svelte-query';
  import type { Acting } from '../lib/acting.svelte';
  import type { Task } from '../lib/api';
  import { clock } from '../lib/format';
  import { NOTE_TITLES } from '../lib/notes';
  import * as editing from '../lib/server/editing';
  import * as recordings from '../lib/server/recordings';
  import EditGroup from './EditGroup.svelte';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    recordingId: string;
    acting: Acting;
    onhear: (at: number, to: number) => void;
  }
  let { recordingId, acting, onhear }: Props = $props();
  const found = createQuery(() => editing.tasks(recordingId));
  const tasks = $derived(found.data ?? []);
  const told = ({ kind, text }: Task) => (text ? `${NOTE_TITLES[kind]}: ${text}` : NOTE_TITLES[kind]);
  const tick = (task: Task) => acting.attempt(() => recordings.changeNote(task.id, { done: !task.done_at }));
</script>

{#if tasks.length}
  <EditGroup label="Notes from listening">
    <ul>
      {#each tasks as task (task.id)}
        <li class:done={task.done_at}>
          <label>
            <input type="checkbox" checked={Boolean(task.done_at)} onchange={() => tick(task)} />
            <span>{told(task)}</span>
          </label>
          <span class="soft"
            >{task.title}{task.who ? `, ${task.who}` : ''}{task.corrected
              ? `. Edited there since: ${task.corrected.toLowerCase()}`
              : ''}</span
          >
          <LinkButton onclick={() => onhear(task.at_s, task.at_s)}
            >Hear<span class="visually-hidden">&#32;{told(task)}&#32;</span> at {clock(task.at_s, 1)}</LinkButton
          >
        </li>
      {/each}
    </ul>
  </EditGroup>
{/if}

<style>
  li {
    display: grid;
    grid-template-columns: minmax(0, 1fr) minmax(0, 1.2fr) auto;
    gap: var(--space-4);
    align-items: center;
    padding: var(--space-2) 0;
  }
  label {
    display: flex;
    gap: 0.5ch;
    align-items: center;
  }
  .done label span {
    text-decoration: line-through;
  }
</style>
