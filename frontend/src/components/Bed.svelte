<script lang="ts">
  // What lies under the voice: which sounds, from when to when, how loud, and how far the voice lowers them.
  import type { Acting } from '../lib/acting.svelte';
  import type { BedSound, BedView, Mix } from '../lib/api';
  import type { Dropped } from '../lib/dropped';
  import { clock, counted, number } from '../lib/format';
  import * as server from '../lib/server/beds';
  import { withEntry, withoutEntry, withValue } from '../lib/settings';
  import DropSection from './DropSection.svelte';
  import EditGroup from './EditGroup.svelte';
  import FigureTable from './FigureTable.svelte';
  import FileButton from './FileButton.svelte';
  import LinkButton from './LinkButton.svelte';
  import RadioRow from './RadioRow.svelte';
  import StepSentence from './StepSentence.svelte';
  import UnderWay from './UnderWay.svelte';
  interface Props {
    recordingId: string;
    bed: BedView;
    acting: Acting;
    playhead: number;
    /** Hear it with the bed from a moment on. */
    onhear: (at: number) => void;
  }
  let { recordingId, bed, acting, playhead, onhear }: Props = $props();

  type Settings = Record<string, unknown>;
  let chosen = $state<'one' | 'all'>();
  /** Whether what is changed lies under every recording that has nothing of its own. */
  const all = $derived((chosen ?? (bed.own || !bed.of_production.clips?.length ? 'one' : 'all')) === 'all');
  const step = $derived({ ...(all ? bed.of_production_step : bed.step), id: 'bed' });
  const settings = $derived((step.settings ?? {}) as Settings);
  /** Whether what is shown is what lies under this recording. */
  const here = $derived(!all || !bed.own);
  const clips = $derived((settings.clips ?? []) as { name: string; sound: string }[]);

  /** What it was before each change made here, the last one last. */
  let before = $state.raw<{ all: boolean; settings: Settings; own: boolean }[]>([]);
  // The next change may come before the last one is shown: then it is made to what was asked for, and follows what was answered.
  let pending = 0;
  let asked: { one?: Settings; all?: Settings } = {};
  let answered: { one?: string; all?: string } = {};
  async function put(under: boolean, to: Settings, then: () => void): Promise<void> {
    const key = under ? 'all' : 'one';
    asked = { ...asked, [key]: to };
    pending += 1;
    const done = await acting.attempt(
      async () => {
        const { state } = under
          ? await server.layUnderAll(bed.production_id, answered.all ?? bed.of_production_state, to)
          : await server.lay(recordingId, answered.one ?? bed.state, to);
        answered = { ...answered, [key]: state };
        then();
        return true;
      },
      { inTurn: `bed ${recordingId}` },
    );
    pending -= 1;
    if (!done) asked = {};
    if (!pending) asked = answered = {};
  }
  function change(to: (now: Settings) => Settings): Promise<void> {
    const was = { all, settings: (all ? asked.all : asked.one) ?? settings, own: bed.own };
    return put(all, to(was.settings), () => (before = [...before, was]));
  }
  const undone = () => (before = before.slice(0, -1));
  const undo = async () => {
    const last = before.at(-1);
    if (last && (last.all || last.own)) await put(last.all, last.settings, undone);
    else if (last) await shared(undone);
  };
  const shared = (then: () => unknown = () => undefined) =>
    acting.attempt(() => server.share(recordingId, answered.one ?? bed.state).then(then), {
      inTurn: `bed ${recordingId}`,
    });
  const set = (path: string, value: unknown) => change((now) => withValue(now, path, value));

  function layHere({ sound, duration_s: length }: BedSound): void {
    const at_s = Number(playhead.toFixed(2));
    const out_s = Number((length ?? 0).toFixed(3));
    const loop = out_s < bed.length_s - at_s;
    void change((now) => ({ ...now, clips: withEntry(now, 'clips', { sound, at_s, out_s, loop }) }));
  }
  const bring = ({ files }: Dropped) => {
    for (const file of files) void acting.attempt(() => server.bring(bed.production_id, file));
  };

  const figure = (value: number | null | undefined) => (value == null ? '–' : number(value, 1));
  const columns = $derived(
    [
      { title: 'Expected', mix: bed.planned?.mix },
      { title: 'In the file', mix: bed.made },
    ].filter((one): one is { title: string; mix: Mix } => Boolean(one.mix)),
  );
  const rows: [string, string, (mix: Mix) => number | null | undefined][] = [
    ['Voice', 'LUFS', (mix) => mix.voice_lufs],
    ['Bed', 'LUFS', (mix) => mix.bed_lufs],
    ['Mix', 'LUFS', (mix) => mix.mix_lufs],
    ['Voice less mix', 'LU', (mix) => mix.difference_lu],
    ['Voice over bed', 'LU', (mix) => mix.above_bed_lu],
  ];
</script>

<DropSection label="Bed under the voice" ondropped={bring}>
  <div class="line">
    <RadioRow
      label="What is changed"
      value={all ? 'all' : 'one'}
      options={[
        ['one', 'This recording'],
        ['all', 'Every recording without its own'],
      ]}
      onchoose={(to) => (chosen = to)}
    />
    {#if bed.own}<LinkButton onclick={() => shared()}>Use the production’s bed</LinkButton>{/if}
  </div>
  <p>
    {#if all}{clips.length
        ? `${counted(clips.length, 'sound')} under every voice of the production${bed.own ? '; this recording has its own' : ''}.`
        : 'Nothing lies under the production.'}
    {:else if !clips.length}{bed.own
        ? 'Nothing lies under this voice, as was chosen.'
        : 'Nothing lies under this voice.'}
    {:else}{counted(clips.length, 'sound')} under this voice, {bed.own
        ? 'its own'
        : 'as under the whole production'}.{/if}
    {#if before.length}<LinkButton onclick={undo}>Undo bed change</LinkButton>{/if}
  </p>
  {#if acting.problem}<p class="outside" role="alert">{acting.problem}</p>{/if}

  {#if clips.length}
    <ol>
      {#each step.reading.entries ?? [] as entry, index (entry.path)}
        <li class="sentence">
          <b>{clips[index]?.name || 'Sound'}:</b>
          <StepSentence {step} pieces={entry.pieces} onset={set} />
          <span class="line acts">
            {#if here && bed.heard[index] && bed.heard[index].end_s > bed.heard[index].start_s}
              <LinkButton onclick={() => onhear(bed.heard[index]?.start_s ?? 0)}
                >Hear<span class="visually-hidden">&#32;{clips[index]?.name}</span> from {clock(
                  bed.heard[index].start_s,
                  1,
                )}</LinkButton
              >
            {:else if here}<span class="near">Not heard: this recording ends before it.</span>{/if}
            <LinkButton onclick={() => change((now) => ({ ...now, clips: withoutEntry(now, entry.path) }))}
              >Take out<span class="visually-hidden">&#32;{clips[index]?.name}</span></LinkButton
            >
          </span>
        </li>
      {/each}
    </ol>
    <p class="sentence"><StepSentence {step} pieces={step.reading.pieces} onset={set} /></p>
    <p class="sentence"><StepSentence {step} pieces={step.reading.further ?? []} onset={set} /></p>
  {/if}

  {#if here && clips.length}
    <EditGroup label="Voice and mix">
      {#if bed.planned?.said}<p class:near={bed.planned.reason === 'bed'}>{bed.planned.said}</p>
      {:else if bed.planned}<p>The mix needs no limiting.</p>{/if}
      {#if columns.length}
        <FigureTable>
          <thead>
            <tr
              ><th scope="col">Loudness</th>{#each columns as { title } (title)}<th scope="col">{title}</th>{/each}</tr
            >
          </thead>
          <tbody>
            {#each rows as [name, unit, of] (name)}
              <tr>
                <th scope="row">{name}</th>
                {#each columns as { title, mix } (title)}<td>{figure(of(mix))} <span class="soft">{unit}</span></td
                  >{/each}
              </tr>
            {/each}
          </tbody>
        </FigureTable>
      {:else}<p class="soft">Known once the plan is made.</p>{/if}
    </EditGroup>
  {/if}

  <EditGroup label="Sounds">
    <div class="line">
      <FileButton label="Sound for beds" accept="audio/*" multiple onchosen={bring}>Bring in a sound…</FileButton>
      <span class="soft">or drop it here. It can be laid under any recording of the production.</span>
    </div>
    {#if bed.sounds.length}
      <ul>
        {#each bed.sounds as sound (sound.id)}
          <li class="line" data-sound={sound.name}>
            <b>{sound.name}</b>
            {#if sound.sound}
              <span class="soft figure"
                >{clock(sound.duration_s ?? 0, 1)}, {sound.channels === 1 ? 'mono' : 'stereo'}, {figure(
                  sound.loudness_lufs,
                )} LUFS</span
              >
              <LinkButton onclick={() => layHere(sound)}
                >Lay<span class="visually-hidden">&#32;{sound.name}&#32;</span> at {clock(playhead, 1)}</LinkButton
              >
              <LinkButton onclick={() => acting.attempt(() => server.removeSound(sound.id))}
                >Remove<span class="visually-hidden">&#32;{sound.name}</span></LinkButton
              >
            {:else if sound.work?.state === 'failed'}<span class="outside" role="alert">{sound.work.error}</span>
              <LinkButton onclick={() => acting.attempt(() => server.removeSound(sound.id))}
                >Remove<span class="visually-hidden">&#32;{sound.name}</span></LinkButton
              >
            {:else if sound.work}<UnderWay work={sound.work} about={sound.name} waiting="Queued" {acting} />{/if}
          </li>
        {/each}
      </ul>
    {/if}
  </EditGroup>
</DropSection>

<style>
  .sentence {
    line-height: 1.75;
  }
  .acts {
    display: inline-flex;
    padding-left: var(--space-4);
  }
  b {
    font-weight: 600;
  }
  ol {
    margin: 0;
    padding: 0 0 0 var(--space-6);
  }
  .outside {
    color: var(--outside);
  }
  .near {
    color: var(--near);
  }
  .figure {
    font-family: var(--figures);
    font-size: var(--type-small);
  }
</style>
