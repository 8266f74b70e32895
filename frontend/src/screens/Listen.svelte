<script lang="ts">
  // Listening a file through: played faster with its pitch kept, notes made on the way, and what was really heard of it.
  import { createQuery } from '@tanstack/svelte-query';
  import { push, replace } from 'svelte-spa-router';
  import Button from '../components/Button.svelte';
  import Choice from '../components/Choice.svelte';
  import Field from '../components/Field.svelte';
  import LinkButton from '../components/LinkButton.svelte';
  import ListenStrip from '../components/ListenStrip.svelte';
  import ScreenHead from '../components/ScreenHead.svelte';
  import { Acting } from '../lib/acting.svelte';
  import { shortcuts } from '../lib/shortcuts.svelte';
  import type { NoteKind } from '../lib/api';
  import { clock, counted, date, exact, number } from '../lib/format';
  import { NOTE_KINDS, NOTE_TITLES } from '../lib/notes';
  import { listener, Proof, setListener, SPEEDS, type Of } from '../lib/proof.svelte';
  import * as recordings from '../lib/server/recordings';
  import Problem from '../components/Problem.svelte';

  let { params }: { params: { of: Of; id: string } } = $props();
  const query = createQuery(() => recordings.listening(params.of, params.id));
  const view = $derived(query.data?.id === params.id ? query.data : undefined);
  const acting = new Acting();
  const address = $derived(`/api/listen/${params.of}/${params.id}/sound.wav`);
  const proof = $derived(new Proof(address, params.of, params.id));
  $effect(() => {
    const mine = proof;
    return () => mine.end();
  });
  let who = $state(listener());
  let editing = $state<string>();
  const open = $derived(view?.notes.filter((note) => !note.done_at).length ?? 0);

  const add = (kind: NoteKind) =>
    acting.attempt(async () => {
      const body = { at_s: proof.position, kind, text: '', who };
      const made = await recordings.addNote(params.of, params.id, body);
      editing = made.id;
    });
  const change = (note_id: string, body: { kind?: NoteKind; text?: string; done?: boolean; removed?: boolean }) =>
    acting.attempt(() => recordings.changeNote(note_id, body));
  let removed = $state<string>();
  async function remove(id: string) {
    await change(id, { removed: true });
    removed = id;
  }
  async function undo() {
    const id = removed;
    removed = undefined;
    if (id) await change(id, { removed: false });
  }
  shortcuts(() => ({
    title: 'Listening',
    list: [
      { keys: ['h'], shown: 'H', does: 'play or pause', act: () => proof.toggle() },
      { keys: ['ArrowLeft'], shown: '←', does: 'back 5 s', act: () => proof.seek(proof.position - 5) },
      { keys: ['ArrowRight'], shown: '→', does: 'forward 5 s', act: () => proof.seek(proof.position + 5) },
      { keys: [','], shown: ',', does: 'slower', act: () => proof.step(-1) },
      { keys: ['.'], shown: '.', does: 'faster', act: () => proof.step(1) },
      ...NOTE_KINDS.map(([kind, words, key]) => ({
        keys: [key],
        shown: key.toUpperCase(),
        does: `note: ${words.toLowerCase()}`,
        act: () => add(kind),
      })),
      {
        keys: [' '],
        shown: 'Space',
        does: 'play or pause, with the focus on the level',
        within: '[role=slider]',
        act: () => proof.toggle(),
      },
    ],
  }));
  const written = (form: string) => `/api/listen/${params.of}/${params.id}/${form}`;
</script>

<svelte:head><title>Listen to {view?.name ?? ''} · Ispettore</title></svelte:head>
<main>
  {#if query.isError}
    <Problem {query} />
  {:else if view}
    <ScreenHead title={`Listen: ${view.name}`}>
      {#snippet way()}<a href={`#/productions/${view.production}`}>{view.production_name}</a> ·
        <a href={`#/productions/${view.production}/deliver`}>Deliver</a> ·
        <a href={`#/recordings/${view.recording}`}>Bench</a>{/snippet}
      {#snippet told()}{number(100 * view.share, 0)} % heard of {clock(view.duration_s)}{open
          ? `, ${counted(open, 'open note')}`
          : ''}.{/snippet}
      {#snippet acts()}{#if view.before}<a class="step" href={`#/listen/${view.before.of}/${view.before.id}`}
            >← {view.before.name}</a
          >{/if}
        {#if view.after}<a class="step" href={`#/listen/${view.after.of}/${view.after.id}`}>{view.after.name} →</a>{/if}
        <Choice
          label="File"
          value={`${view.of}/${view.id}`}
          options={view.choices.map((one) => [`${one.of}/${one.id}`, `${one.title}, ${number(100 * one.share, 0)} %`])}
          onchange={(to) => void replace(`/listen/${to}`)}
        />
        <div class="who">
          <Field
            label="Listener"
            value={who}
            maxlength={80}
            placeholder="Your name"
            onchange={(to) => {
              who = to.trim();
              setListener(who);
            }}
          />
        </div>{/snippet}
    </ScreenHead>
    <section aria-label="Playing">
      <ListenStrip {view} position={proof.position} onseek={(to) => proof.seek(to)} />
      <div class="play">
        <Button strong onclick={() => proof.toggle()}>{proof.playing ? 'Pause' : 'Play'}</Button>
        <span class="clock">{clock(proof.position, 1)} <span class="soft">of {clock(view.duration_s)}</span></span>
        <label class="speed"
          >Speed
          <select value={String(proof.speed)} onchange={(event) => proof.setSpeed(Number(event.currentTarget.value))}>
            {#each SPEEDS as speed (speed)}<option value={String(speed)}>{exact(speed)} ×</option>{/each}
          </select></label
        >
        <span class="add" role="group" aria-label="Add a note here">
          {#each NOTE_KINDS as [kind, title, key] (kind)}
            <Button onclick={() => add(kind)}>{title} <kbd>{key}</kbd></Button>
          {/each}
        </span>
      </div>
      {#if proof.problem}<p class="wrong" role="alert">{proof.problem}</p>{/if}
    </section>
    <Problem {acting} />
    <div class="halves">
      <section aria-label="Notes">
        <div class="head">
          <h2>Notes</h2>
          {#if view.notes.some((note) => note.this)}
            <span class="soft"
              ><a href={written('notes.csv')} download>CSV</a>, <a href={written('notes.vtt')} download>WebVTT</a>,
              <a href={`${written('sound.wav')}?marks=true`} download>WAV with markers</a></span
            >
          {/if}
        </div>
        <div role="status">
          {#if removed}<p>Note removed. <LinkButton onclick={() => void undo()}>Undo</LinkButton></p>{/if}
        </div>
        <ul>
          {#each view.notes as note (note.id)}
            <li class:done={note.done_at} data-note={note.id}>
              <input
                type="checkbox"
                aria-label={`Done: ${NOTE_TITLES[note.kind]} at ${clock(note.at_s)}`}
                checked={Boolean(note.done_at)}
                onchange={(event) => void change(note.id, { done: event.currentTarget.checked })}
              />
              {#if note.this}<LinkButton onclick={() => proof.seek(note.at_s)} label={`Go to ${clock(note.at_s, 1)}`}
                  >{clock(note.at_s, 1)}</LinkButton
                >{:else}<span class="soft" title={note.title}>{clock(note.at_s, 1)}</span>{/if}
              <select
                aria-label={`Kind of note at ${clock(note.at_s)}`}
                value={note.kind}
                onchange={(event) => void change(note.id, { kind: event.currentTarget.value as NoteKind })}
              >
                {#each NOTE_KINDS as [kind, title] (kind)}<option value={kind}>{title}</option>{/each}
              </select>
              <input
                class="text"
                aria-label={`Note at ${clock(note.at_s)}`}
                placeholder="Note"
                maxlength="2000"
                value={note.text}
                {@attach (field) => {
                  if (editing === note.id) {
                    editing = undefined;
                    field.focus();
                  }
                }}
                onchange={(event) => void change(note.id, { text: event.currentTarget.value })}
                onkeydown={(event) => event.key === 'Enter' && event.currentTarget.blur()}
              />
              <span class="soft by">{[note.who, note.this ? '' : note.title].filter(Boolean).join(', ')}</span>
              <LinkButton onclick={() => void remove(note.id)} label={`Remove the note at ${clock(note.at_s)}`}
                >Remove</LinkButton
              >
            </li>
          {:else}
            <li class="soft">Press a key while you listen: M misread, N noise, R needs a retake, T anything else.</li>
          {/each}
        </ul>
      </section>
      <section aria-label="Checked by ear">
        <h2>Checked by ear</h2>
        <ul>
          {#each view.listenings as one (one.id)}
            <li class="sitting">
              <span class="soft">{date(one.began_at)}</span>
              <span>{one.said[0]?.toUpperCase()}{one.said.slice(1)}</span>
              {#if !one.this}<span class="soft other">{one.title}</span>{/if}
            </li>
          {:else}
            <li class="soft">Nothing yet. What you play is recorded here: how much, how fast, and by whom.</li>
          {/each}
        </ul>
        <p class="hint soft">
          H: play · ← →: 5 s · comma, full stop: speed (the pitch stays the same)
          {#if params.of !== 'deliverable' && view.choices.some((one) => one.of === 'deliverable')}
            <LinkButton
              onclick={() => {
                const made = view.choices.find((one) => one.of === 'deliverable');
                if (made) void push(`/listen/deliverable/${made.id}`);
              }}>Listen to the delivered file</LinkButton
            >
          {/if}
        </p>
      </section>
    </div>
  {/if}
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
  .play,
  .head {
    display: flex;
    gap: var(--space-6);
    align-items: end;
  }
  .head {
    justify-content: space-between;
  }
  .step {
    padding-bottom: var(--space-2);
    font-size: var(--type-plain);
  }
  .who {
    width: 150px;
  }
  .wrong {
    color: var(--outside);
  }
  section {
    background: var(--sheet);
    border: 1px solid var(--rule);
    padding: var(--space-4) var(--space-5);
  }
  .play {
    align-items: center;
    margin-top: var(--space-4);
    flex-wrap: wrap;
  }
  .clock {
    font-family: var(--figures);
    font-size: var(--type-plain);
    min-width: 150px;
  }
  .speed {
    display: flex;
    gap: var(--space-3);
    align-items: baseline;
    font-size: var(--type-plain);
    color: var(--soft);
  }
  .add {
    flex-wrap: wrap;
    display: flex;
    gap: var(--space-4);
    margin-left: auto;
  }
  kbd {
    font-family: var(--figures);
    font-size: var(--type-fine);
    color: var(--soft);
  }
  .halves {
    display: grid;
    grid-template-columns: minmax(0, 1.7fr) minmax(0, 1fr);
    gap: var(--space-5);
    margin-top: var(--space-5);
    align-items: start;
  }
  ul {
    list-style: none;
    margin: var(--space-3) 0 0;
    padding: 0;
  }
  li {
    display: flex;
    gap: var(--space-4);
    align-items: baseline;
    padding: var(--space-2) 0;
    border-bottom: 1px solid var(--rule);
    font-size: var(--type-plain);
  }
  li:last-child {
    border-bottom: 0;
  }
  .sitting {
    display: grid;
    grid-template-columns: 190px 1fr;
    gap: 0 var(--space-4);
  }
  .other {
    grid-column: 2;
  }
  .done .text {
    text-decoration: line-through;
    color: var(--soft);
  }
  select {
    border: 1px solid var(--soft);
    background: var(--sheet);
    border-radius: 3px;
    padding: var(--space-1) var(--space-2);
    font-size: var(--type-plain);
  }
  .text {
    flex: 1;
    min-width: 60px;
    border: 1px solid transparent;
    border-bottom: 1px dotted var(--rule);
    background: transparent;
    border-radius: 3px;
    padding: var(--space-1) var(--space-2);
  }
  .text:is(:hover, :focus) {
    border-color: var(--soft);
  }
  .text::placeholder {
    color: var(--soft);
  }
  .by,
  .hint {
    font-size: var(--type-small);
  }
  .hint {
    margin-top: var(--space-4);
  }
</style>
