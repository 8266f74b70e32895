<script lang="ts">
  // A take recorded here: its name, what is heard meanwhile, the level as it grows, marks; and those that were interrupted.
  import { createQuery } from '@tanstack/svelte-query';
  import type { StandInSetting } from '../lib/api';
  import { Acting } from '../lib/acting.svelte';
  import { clock, counted, date, number } from '../lib/format';
  import { Growing } from '../lib/growing';
  import type { HeldTake } from '../lib/held-pieces';
  import * as productions from '../lib/server/productions';
  import { shortcuts } from '../lib/shortcuts.svelte';
  import { interrupted, type Interrupted, type Taking } from '../lib/taking.svelte';
  import Button from './Button.svelte';
  import Choice from './Choice.svelte';
  import Field from './Field.svelte';
  import LivePicture from './LivePicture.svelte';
  import Question from './Question.svelte';
  interface Props {
    production: string;
    taking: Taking;
    /** The device that is chosen, and how the stand-in is set. */
    source: string;
    setting: StandInSetting;
    aim: [number, number] | undefined;
    /** A check is under way, which recording would end. */
    checked: boolean;
    /** Called before anything is recorded: whoever listens lets go of the microphone. */
    onstart: () => void;
  }
  let { production, taking, source, setting, aim, checked, onstart }: Props = $props();
  const known = createQuery(() => productions.takes(production));
  const acting = new Acting();
  let written = $state<string>();
  const name = $derived(written ?? known.data?.next ?? '');
  let held = $state.raw<HeldTake[]>([]);
  $effect(() => {
    void known.data;
    void taking.held.takes(production).then((found) => (held = found));
  });
  const left = $derived(taking.busy ? [] : interrupted(known.data?.unfinished ?? [], held));
  const elsewhere = $derived(taking.busy ? [] : (known.data?.unfinished ?? []).filter(({ goes_on }) => goes_on));
  const heard = $derived([
    ['', 'Nothing'] as const,
    ['plain', 'The microphone as it is'] as const,
    ...(known.data?.heard ?? []).map((one) => [one.id, one.name] as const),
  ]);

  async function begin() {
    onstart();
    await taking.start(source, setting, name);
    written = undefined;
  }
  async function goOn(it: Interrupted) {
    onstart();
    await taking.goOn(it, source, setting);
  }
  let asked = $state<HTMLDialogElement>();
  let unwanted = $state.raw<Interrupted>();
  async function discard() {
    const it = unwanted;
    if (!it) return;
    await acting.attempt(async () => {
      if (it.there) await productions.discardTake(production, it.id);
      await taking.held.forget(it.id);
      held = held.filter(({ id }) => id !== it.id);
    });
    asked?.close();
  }

  const going = $derived(taking.state === 'on' || taking.state === 'paused');
  shortcuts(() => ({
    title: 'Take',
    list: [{ keys: ['m'], shown: 'M', does: 'mark what went wrong while recording', act: () => taking.mark() }],
  }));

  const bare = (file: string) => file.replace(/\.wav$/i, '');
  const waiting = $derived(Math.max(taking.recorded - taking.kept, 0));
  const said = $derived(
    {
      '': taking.recording ? `“${bare(taking.name)}” is a recording of this production now.` : '',
      starting: 'Starting …',
      on: taking.connected
        ? 'Recording.'
        : 'Recording. The server can’t be reached; this browser holds what comes until it can.',
      paused: 'Paused. Nothing is recorded.',
      finishing: taking.connected
        ? 'Sending the rest …'
        : 'The server can’t be reached; the rest is sent as soon as it can. Leave this page open.',
    }[taking.state],
  );
  const shown = $derived({ start: 0, end: Growing.shown(taking.recorded) });
  const columns = $derived.by(() => {
    void taking.grown;
    return [...taking.growing.columns];
  });
  const peak = $derived(columns.at(-1)?.peak ?? null);
  const steps = $derived(taking.heard);
  /** What of a treatment is not heard, and why. */
  const without = $derived(
    steps
      ? [
          steps.untaught.length
            ? `${steps.untaught.join(', ')} ${steps.untaught.length === 1 ? 'learns' : 'learn'} from a take check: make one first to hear ${steps.untaught.length === 1 ? 'it' : 'them'}.`
            : '',
          steps.left_out.length
            ? `${steps.left_out.join(', ')} ${steps.left_out.length === 1 ? 'needs' : 'need'} the whole recording and can’t be heard yet.`
            : '',
        ].join(' ')
      : '',
  );
</script>

<svelte:window
  onbeforeunload={(event) => taking.busy && event.preventDefault()}
  onpagehide={() => {
    taking.hold();
  }}
/>
<section aria-label="Take">
  <h2>
    {#if going || taking.state === 'finishing'}{bare(taking.name)}<span class="soft"
        >{taking.marks.length ? `, ${counted(taking.marks.length, 'mark')}` : ''}</span
      >{:else}Record a take{/if}
  </h2>
  {#if taking.busy}
    <LivePicture
      {columns}
      {shown}
      written={(seconds) => clock(seconds)}
      {aim}
      marks={taking.marks.map(({ frame }) => frame / taking.rate)}
      said={`The level of this take, ${clock(taking.recorded)} so far${peak === null ? '' : `; now peaks at ${number(peak, 0)} dBFS`}.`}
    />
  {/if}
  <div class="line">
    {#if going}
      <span class="clock">{clock(taking.recorded, 1)}</span>
      <span {@attach (it) => it.querySelector('button')?.focus()}
        ><Button strong onclick={() => taking.mark()}>Mark</Button></span
      >
      {#if taking.state === 'on'}
        <Button onclick={() => taking.pause()}>Pause</Button>
      {:else}
        <Button onclick={() => taking.resume()}>Go on</Button>
      {/if}
      <Button onclick={() => taking.finish()}>Finish take</Button>
    {:else if !taking.busy && known.data}
      <Field
        label="Called"
        value={name}
        maxlength={100}
        onchange={(to) => (written = to)}
        oninput={(to) => (written = to)}
      />
    {/if}
    <Choice label="On headphones" value={taking.hearing} options={heard} onchange={(to) => void taking.hear(to)} />
    {#if taking.state === ''}
      <Button strong disabled={!name.trim() || checked} onclick={begin}>Record</Button>
    {/if}
  </div>
  <p class="course">
    <span role="status">{said}</span>
    {#if taking.recording}
      <a href={`#/recordings/${taking.recording}`}>Open it</a>
    {:else if going}
      <span class={waiting > 3 ? 'outside' : 'soft'}
        >{waiting > 3
          ? `${number(waiting, 0)} s wait in this browser.`
          : `Safe on the server up to ${clock(taking.kept)}.`}</span
      >
      {#if taking.clipped}<span class="outside">Clipped {counted(taking.clipped, 'time')}.</span>{/if}
      {#if taking.delay !== null}<span class="soft">Heard {number(1000 * taking.delay, 0)} ms after you speak.</span
        >{/if}
    {:else if !taking.busy && !taking.problem}
      <span class="soft"
        >Every sample is kept as it comes, also if the connection breaks or the page is closed. M marks what went wrong.</span
      >
    {/if}
  </p>
  {#if taking.hearing}
    <p class="soft">
      Use headphones: a loudspeaker is heard by the microphone. Only the microphone itself is recorded. {without}
    </p>
  {/if}
  {#if !taking.survives}
    <p class="outside">
      This browser holds nothing over a reload. Do not reload this page while the server can’t be reached.
    </p>
  {/if}
  {#if taking.problem || acting.problem}<p class="outside" role="alert">{taking.problem || acting.problem}</p>{/if}
  {#if left.length || elsewhere.length}
    <ul aria-label="Interrupted takes">
      {#each left as it (it.id)}
        <li>
          <span
            >“{bare(it.name)}” was interrupted{it.kept === null ? '' : ` at ${clock(it.kept)}`}<span class="soft"
              >, {it.heardFrom}, {date(it.begunAt)}</span
            ></span
          >
          <Button label={`Go on with ${bare(it.name)}`} onclick={() => goOn(it)}>Go on</Button>
          <Button label={`Keep as it is: ${bare(it.name)}`} onclick={() => taking.finishOff(it)}>Keep as it is</Button>
          <Button
            label={`Discard ${bare(it.name)}`}
            onclick={() => {
              unwanted = it;
              asked?.showModal();
            }}>Discard</Button
          >
        </li>
      {/each}
      {#each elsewhere as it (it.id)}
        <li><span>“{bare(it.name)}” is being recorded in another window.</span></li>
      {/each}
    </ul>
  {/if}
</section>
<Question
  bind:element={asked}
  title={`Discard “${bare(unwanted?.name ?? '')}”?`}
  meaning="What was recorded of it is gone then, here and on the server."
  act="Discard"
  onact={discard}
/>

<style>
  section {
    display: grid;
    gap: var(--space-4);
    padding: var(--space-5);
    background: var(--sheet);
    border: 1px solid var(--rule);
  }
  .line {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-3) var(--space-5);
    align-items: end;
  }
  .clock {
    font: var(--type-title) var(--figures);
    min-width: 7ch;
  }
  .outside {
    color: var(--outside);
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
    display: grid;
    gap: var(--space-3);
  }
  li {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-3) var(--space-4);
    align-items: center;
  }
</style>
