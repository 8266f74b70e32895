<script lang="ts">
  // Before the first word: what comes in, the room alone, a few sentences; then what to turn, and by how much.
  import { createQuery } from '@tanstack/svelte-query';
  import Button from '../components/Button.svelte';
  import CheckFound from '../components/CheckFound.svelte';
  import Choice from '../components/Choice.svelte';
  import LivePicture from '../components/LivePicture.svelte';
  import ListTable from '../components/ListTable.svelte';
  import Problem from '../components/Problem.svelte';
  import ScreenHead from '../components/ScreenHead.svelte';
  import TakeRecorder from '../components/TakeRecorder.svelte';
  import WrittenNumber from '../components/WrittenNumber.svelte';
  import type { StandInSetting } from '../lib/api';
  import { date, number } from '../lib/format';
  import { devices, type Device } from '../lib/microphone';
  import * as productions from '../lib/server/productions';
  import { client } from '../lib/client';
  import { Checking, SHOWN_S, STAND_IN } from '../lib/take-check.svelte';
  import { Taking } from '../lib/taking.svelte';

  let { params }: { params: { id: string } } = $props();
  const sheet = createQuery(() => productions.sheet(params.id));
  const kept = createQuery(() => productions.takeChecks(params.id));
  const checking = $derived(new Checking(params.id));
  $effect(() => {
    const now = checking;
    return () => now.stop();
  });

  const aim = $derived(kept.data?.peaks_dbfs as [number, number] | undefined);
  let found = $state<Device[]>([]);
  let source = $state('');
  let distance = $state<number | string>('');
  let setting = $state<Required<StandInSetting>>({
    seed: 1,
    distance_cm: 30,
    input_db: 4,
    room_dbfs: -72,
    hum_dbfs: -74,
    hum_hz: 50,
    decay_s: 0.3,
  });
  const look = async () => (found = await devices());
  void look();
  const sources = $derived([
    ...(found.length ? found.map(({ id, name }) => [id, name] as const) : [['', 'Microphone'] as const]),
    [STAND_IN, 'Stand-in: a voice in a room'] as const,
  ]);
  const chosen = $derived(sources.some(([id]) => id === source) ? source : (sources[0]?.[0] ?? ''));
  const standsIn = $derived(chosen === STAND_IN);
  const centimetres = $derived(
    typeof distance === 'number' && distance >= 3 && distance <= 500 ? distance : distance === '' ? null : undefined,
  );
  async function start() {
    await checking.start(chosen, setting, centimetres ?? null);
    await look();
    // Which one the browser gave is known now.
    if (!standsIn && checking.device) source = checking.device;
  }
  const FIELDS = [
    ['distance_cm', 'Distance in centimetres', 'cm away', 5, 300],
    ['input_db', 'Input in decibels', 'dB of input', -40, 60],
    ['room_dbfs', 'Room in dBFS', 'dBFS of room', -140, -20],
  ] as const;
  let wrong = $state<string>();
  function turn(field: (typeof FIELDS)[number][0] | 'hum_dbfs', to: number | string | null, low = -140, high = 300) {
    const fits = to === null || (typeof to === 'number' && to >= low && to <= high);
    wrong = fits ? undefined : field;
    if (!fits) return;
    setting = { ...setting, [field]: to };
    if (checking.on && standsIn) checking.set(setting);
  }
  const course = $derived(
    {
      listening: 'Listening. Nothing is kept.',
      room: 'The room: be quiet.',
      reading: 'Now read a few sentences, as you will read.',
      complete: 'Working it out …',
    }[checking.state],
  );
  /** How far it is: seen, and not spoken, as it changes all the time. */
  const far = $derived(
    {
      listening: '',
      room: `${number(Math.max(0, checking.left), 0)} s more`,
      reading: `${number(checking.read, 0)} s so far`,
      complete: '',
    }[checking.state],
  );
  const said = $derived(
    {
      '': 'Start listening, and turn the input until peaks lie in the band. A check takes ten seconds of the room, then a few sentences. No sound is kept.',
      starting: 'Starting …',
      on: course,
    }[checking.on],
  );
  const taking = $derived(
    new Taking(params.id, () => void client.invalidateQueries({ queryKey: ['takes', params.id] })),
  );
  $effect(() => {
    const now = taking;
    return () => now.stop();
  });
  /** The last half minute, against now. */
  const columns = $derived.by(() => {
    const last = checking.levels.at(-1)?.at_s ?? 0;
    return checking.levels.map(({ at_s, peak_dbfs, rms_dbfs, full_scale }, place) => ({
      from: at_s - last - 0.1,
      to: at_s - last,
      peak: peak_dbfs,
      rms: rms_dbfs,
      clipped: full_scale > 0,
      part: checking.parts[place],
    }));
  });
  const peakNow = $derived(checking.levels.at(-1)?.peak_dbfs);
  const now = $derived(
    peakNow === undefined
      ? 'Nothing is listened to yet.'
      : `Level of the last ${SHOWN_S} s. Now peaks at ${peakNow === null ? 'silence' : `${number(peakNow, 0)} dBFS`}.`,
  );
  const newest = $derived(checking.found ?? kept.data?.checks[0]);
  const earlier = $derived((kept.data?.checks ?? []).filter(({ id }) => id !== newest?.id));
</script>

<svelte:head><title>Take check · Ispettore</title></svelte:head>
<svelte:document onvisibilitychange={() => document.hidden && checking.hidden()} />
<main>
  {#if sheet.isError}
    <Problem query={sheet} />
  {:else if sheet.data}
    {@const it = sheet.data}
    <ScreenHead title="Take check">
      {#snippet way()}<a href={`#/productions/${params.id}`}>{it.name}</a>{/snippet}
      {#snippet told()}Input and room before the first word, and then the take itself, for {it.specification
          .name}.{/snippet}
      {#snippet acts()}
        <Choice
          label="Listen to"
          value={chosen}
          options={sources}
          onchange={(to) => {
            checking.stop();
            source = to;
          }}
        />
        {#if checking.on}
          <Button onclick={() => checking.stop()}>Stop listening</Button>
        {:else}
          <Button strong={!newest?.found.ready} disabled={taking.busy} onclick={start}>Start listening</Button>
        {/if}
      {/snippet}
    </ScreenHead>
    <div class="line" role="group" aria-label={standsIn ? 'Stand-in' : 'Distance'} hidden={taking.busy}>
      {#if standsIn}
        {#each FIELDS as [field, label, unit, low, high] (field)}
          <span
            ><WrittenNumber
              {label}
              value={setting[field]}
              invalid={wrong === field}
              onwritten={(to) => turn(field, to, low, high)}
            />
            {unit}</span
          >
        {/each}
        <label
          ><input
            type="checkbox"
            checked={setting.hum_dbfs !== null}
            onchange={(event) => turn('hum_dbfs', event.currentTarget.checked ? -74 : null)}
          /> something hums</label
        >
      {:else}
        <span
          >Mouth to microphone <WrittenNumber
            label="Distance in centimetres"
            value={distance}
            invalid={centimetres === undefined}
            onwritten={(to) => {
              distance = to;
              if (checking.on && centimetres !== undefined) checking.place(centimetres);
            }}
            onemptied={() => (distance = '')}
          /> cm, if you know it</span
        >
      {/if}
    </div>
    {#if checking.problem}<p class="outside" role="alert">{checking.problem}</p>{/if}
    {#if !taking.busy}
      <LivePicture
        {columns}
        shown={{ start: -SHOWN_S, end: 0 }}
        written={(seconds) => (seconds === 0 ? 'now' : `${number(-seconds, 0)} s ago`)}
        {aim}
        said={now}
      />
    {/if}
    <div class="line course" role="group" aria-label="Check" hidden={taking.busy}>
      {#if checking.on === 'on'}
        {#if checking.state === 'listening'}
          <Button strong onclick={checking.begin}>Check room and voice</Button>
        {:else if checking.state === 'reading'}
          <Button strong disabled={checking.read < (kept.data?.read_at_least_s ?? 0)} onclick={checking.finish}
            >Done reading</Button
          >
        {/if}
        {#if checking.state === 'room' || checking.state === 'reading'}
          <Button onclick={checking.giveUp}>Give up</Button>
        {/if}
      {/if}
      <span role="status" class={{ soft: !checking.on }}>{said}</span>
      {#if checking.on === 'on' && far}<span class="figure">{far}</span>{/if}
      {#if checking.on === 'on' && checking.peak !== null}
        <span class="figure">highest peak {number(checking.peak, 1)} dBFS</span>
      {/if}
    </div>
    <TakeRecorder
      production={params.id}
      {taking}
      source={chosen}
      {setting}
      {aim}
      checked={checking.state !== 'listening'}
      onstart={() => {
        checking.stop();
      }}
    />
    {#if newest && !taking.busy}
      <section aria-label="Result">
        <h2>
          {newest.found.ready ? 'Ready to record' : 'Not ready yet'}<span class="soft"
            >, {date(newest.created_at)}, {newest.heard_from}{newest.distance_cm
              ? `, ${number(newest.distance_cm, 0)} cm`
              : ''}</span
          >
        </h2>
        <CheckFound check={newest} />
      </section>
    {/if}
    {#if earlier.length && !taking.busy}
      <section aria-label="Earlier checks">
        <h2>Earlier checks</h2>
        <ListTable caption="Earlier checks">
          <thead
            ><tr
              ><th scope="col">When</th><th scope="col">Heard from</th><th scope="col">Peak</th><th scope="col"
                >Speech</th
              ><th scope="col">Room</th><th scope="col">Then</th></tr
            ></thead
          >
          <tbody>
            {#each earlier as one (one.id)}
              <tr>
                <th scope="row">{date(one.created_at)}</th>
                <td>{one.heard_from}</td>
                {#each [one.found.peak_dbfs, one.found.speech_dbfs, one.found.room_dbfs] as level, place (place)}
                  <td class="figure">{level === null ? '–' : number(level, 1)}</td>
                {/each}
                <td>{one.found.ready ? 'Ready.' : 'Not ready.'} {one.compared.join(' ')}</td>
              </tr>
            {/each}
          </tbody>
        </ListTable>
      </section>
    {/if}
  {/if}
</main>

<style>
  main {
    padding: var(--space-5) var(--space-7) var(--space-7);
    display: grid;
    gap: var(--space-4);
  }
  .line {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-3) var(--space-6);
    align-items: center;
  }
  label {
    display: flex;
    gap: 0.5ch;
    align-items: center;
  }
  .course {
    min-height: 36px;
  }
  [hidden] {
    display: none;
  }
  .outside {
    color: var(--outside);
  }
  .figure {
    font-family: var(--figures);
  }
  section {
    display: grid;
    gap: var(--space-4);
    padding: var(--space-5);
    background: var(--sheet);
    border: 1px solid var(--rule);
  }
  h2 .soft {
    font-weight: 400;
  }
</style>
