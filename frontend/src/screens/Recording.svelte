<script lang="ts">
  // One recording: where it stands, what to do, and before and after.
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { getContext, untrack } from 'svelte';
  import AllReadings from '../components/AllReadings.svelte';
  import BracketMark from '../components/BracketMark.svelte';
  import Button from '../components/Button.svelte';
  import Choice from '../components/Choice.svelte';
  import FindingsList from '../components/FindingsList.svelte';
  import GainWindowPicture from '../components/GainWindowPicture.svelte';
  import LevelRibbon from '../components/LevelRibbon.svelte';
  import PlayStrip from '../components/PlayStrip.svelte';
  import Progress from '../components/Progress.svelte';
  import ToleranceRule from '../components/ToleranceRule.svelte';
  import { Acting } from '../lib/acting.svelte';
  import { answer, api, type LimitVerdict } from '../lib/api';
  import { clock, facts, number } from '../lib/format';
  import type { Live } from '../lib/live.svelte';
  import { meanings, takenHere } from '../lib/methods';
  import { grouped } from '../lib/places';
  import { Player } from '../lib/player.svelte';

  let { params }: { params: { id: string } } = $props();
  const live = getContext<Live>('live');
  const client = useQueryClient();
  const recording = createQuery(() => ({
    queryKey: ['recording', params.id],
    queryFn: async () =>
      answer(await api.GET('/api/recordings/{recording_id}', { params: { path: { recording_id: params.id } } })),
  }));
  const FORMATS = [
    ['asked', 'as the specification asks'],
    ['mp3', 'MP3, 192 kbit/s'],
    ['wav', 'WAV master, 24 bit'],
    ['flac', 'FLAC master, 24 bit'],
  ] as const;
  const LEVELS = [
    ['light', 'light: least touch'],
    ['balanced', 'balanced'],
    ['even', 'even: alike in every chapter'],
  ] as const;
  const known = meanings();
  const acting = new Acting(client);
  let preference = $state<'light' | 'balanced' | 'even'>('balanced');
  let container = $state<'asked' | 'mp3' | 'wav' | 'flac'>('asked');
  const latest = $derived(recording.data?.conformings[0]);
  const done = $derived(latest?.passes ? latest : undefined);
  const running = $derived(
    latest?.work && ['waiting', 'running'].includes(latest.work.state) ? latest.work : undefined,
  );
  const limits = $derived.by(() => {
    const shown = done?.before?.limits ?? recording.data?.verdict?.limits ?? [];
    const rank = (limit: LimitVerdict) => (limit.passes ? (limit.position === 'near' ? 1 : 2) : 0);
    return [...shown].sort((one, other) => rank(one) - rank(other));
  });
  const groups = $derived(
    grouped(recording.data?.breaches ?? [], recording.data?.findings ?? [], recording.data?.facts?.duration_s ?? 0),
  );
  const after = (limit: LimitVerdict) => done?.after?.limits.find((found) => found.quantity === limit.quantity);
  const gain = $derived(done?.steps.find((step) => step.kind === 'gain')?.settings?.gain_db as number | undefined);

  const player = new Player();
  $effect(() => {
    const it = recording.data;
    if (!it?.inspection) return;
    const { facts: file, readings } = it.inspection;
    const before = readings.head_s?.value ?? 0;
    const source = {
      address: `/api/recordings/${it.id}/sound`,
      rate: file.sample_rate_hz,
      frames: file.frames,
      offset: 0,
      loudness: readings.integrated_loudness_lufs?.value ?? null,
    };
    const moved = done?.steps.some((step) => step.kind === 'head-and-tail') ?? false;
    const treated = done?.result
      ? {
          address: `/api/conformings/${done.id}/sound`,
          rate: done.result.sample_rate_hz,
          frames: done.result.frames,
          offset: moved ? (done.result.head_s ?? before) - before : 0,
          loudness: done.result.integrated_loudness_lufs,
        }
      : undefined;
    untrack(() => player.load(source, treated));
  });
  $effect(() => () => player.stop());

  const conform = () => acting.conform(params.id, { preference, container: container === 'asked' ? null : container });
</script>

<svelte:head><title>{recording.data?.name ?? 'Recording'} · Ispettore</title></svelte:head>
<main>
  {#if recording.isError}
    <p role="alert">{recording.error.message}</p>
  {:else if recording.data}
    {@const it = recording.data}
    <p class="back"><a href={`#/productions/${it.production_id}`}>{it.production_name}</a></p>
    <div class="top">
      <div>
        <h1>{it.name}</h1>
        {#if it.facts}<p class="soft">{facts(it.facts)}, {clock(it.facts.duration_s)}</p>{/if}
      </div>
      {#if it.verdict}
        <p class="verdict" class:outside={!it.verdict.passes}>
          <BracketMark position={it.verdict.passes ? 'inside' : 'over'} size={18} silent />
          {it.verdict.passes ? 'Inside' : 'Outside'}
          {it.specification.name}
        </p>
      {/if}
    </div>
    {#if acting.problem}<p class="outside" role="alert">{acting.problem}</p>{/if}
    {#if it.ribbon && it.verdict && it.inspection}
      <LevelRibbon
        ribbon={it.ribbon}
        duration={it.inspection.facts.duration_s}
        limits={it.verdict.limits}
        pauses={it.inspection.pauses ?? []}
        places={groups.flatMap((group) => group.places)}
        playhead={player.position}
        onseek={(seconds) => player.seek(seconds)}
      />
      <PlayStrip {player} />
      <div class="below">
        <section aria-label="Limits" class="panel">
          <h2>{it.specification.name}{done ? ': before and after' : ''}</h2>
          {#each limits as limit (limit.quantity)}<ToleranceRule
              {limit}
              after={after(limit)}
              method={known.data?.quantities.get(limit.quantity)}
              here={takenHere(it.inspection.readings[limit.quantity], it.inspection.facts)}
            />{/each}
        </section>
        {#if groups.length}
          <section aria-label="Findings" class="panel findings">
            <h2>Findings</h2>
            <FindingsList {groups} meanings={known.data} onseek={(seconds) => player.seek(seconds)} />
          </section>
        {/if}
        {#if known.data}
          <section aria-label="All readings" class="panel findings">
            <h2>All readings</h2>
            <AllReadings inspection={it.inspection} meanings={known.data} />
          </section>
        {/if}
        <section aria-label="What to do" class="panel side">
          <h2>What gain can do</h2>
          {#if it.window}<GainWindowPicture window={it.window} {gain} />{/if}
          {#if running}
            {@const now = live.progress[running.id] ?? running}
            <Progress
              stage={now.stage || 'waiting'}
              fraction={now.fraction}
              about={it.name}
              oncancel={() => acting.cancel(running.id)}
            />
          {:else}
            <div class="act">
              <Choice label="Format" value={container} options={FORMATS} onchange={(to) => (container = to)} />
              <Choice label="Level" value={preference} options={LEVELS} onchange={(to) => (preference = to)} />
              <Button strong={!done} onclick={conform}>{done ? 'Conform again' : 'Conform'}</Button>
            </div>
          {/if}
          {#if done}
            <h2>What was done</h2>
            {#if done.steps.length}
              <ol>
                {#each done.steps as step (step.kind)}<li>
                    <b>{step.kind.replaceAll('-', ' ')}</b>
                    {step.reason}
                  </li>{/each}
              </ol>
            {:else}
              <p>Nothing but encoding: the recording passes as it is.</p>
            {/if}
            <p class="soft">
              Touch {number(done.touch?.touch ?? 0, 0)} of 100{#if (done.touch?.depth_max_db ?? 0) > 0}: limited by {number(
                  done.touch?.depth_p99_db ?? 0,
                  1,
                )} dB at the 99th percentile of speech, {number(done.touch?.depth_max_db ?? 0, 1)} dB at the most{/if}.
            </p>
            <p class="downloads">
              <a href={`/api/conformings/${done.id}/file`} download>{done.file_name}</a>
              {#if done.certified}<a href={`/api/conformings/${done.id}/certificate`} download>Certificate</a><a
                  href={`/api/conformings/${done.id}/certificate.pdf`}
                  download>Certificate, printable</a
                >{/if}
            </p>
          {:else if latest?.obstacles.length}
            <h2 class="outside">Can't be conformed</h2>
            {#each latest.obstacles as obstacle (obstacle.advice)}<p>{obstacle.advice}</p>{/each}
          {:else if latest?.work?.error}
            <p class="outside" role="alert">{latest.work.error}</p>
          {/if}
          {#if it.conformings.length}
            <h2>History</h2>
            <ol class="history" reversed>
              {#each it.conformings as attempted (attempted.id)}
                <li>
                  <span class="figure">{new Date(attempted.created_at).toLocaleString('en-GB')}</span>
                  {attempted.container.toUpperCase()}, {attempted.preference}:
                  {#if attempted.passes && attempted.sha256}
                    <a href={`/api/conformings/${attempted.id}/file`} download
                      >{attempted.certified ? 'certified' : 'conformed'}</a
                    >
                  {:else if attempted.passes === false}
                    can't be conformed
                  {:else}
                    {attempted.work?.state ?? ''}
                  {/if}
                </li>
              {/each}
              <li><span class="figure">{new Date(it.created_at).toLocaleString('en-GB')}</span> brought in</li>
            </ol>
          {/if}
        </section>
      </div>
    {:else if it.work?.error}
      <p class="outside" role="alert">{it.work.error}</p>
    {:else if it.work}
      {@const now = live.progress[it.work.id] ?? it.work}
      <Progress
        stage={now.stage || 'waiting to be measured'}
        fraction={now.fraction}
        about={it.name}
        oncancel={() => acting.cancel(it.work?.id ?? '')}
      />
    {/if}
  {/if}
</main>

<style>
  main {
    padding: 14px 24px 40px;
  }
  .back {
    font-size: 13px;
  }
  .top {
    display: flex;
    justify-content: space-between;
    align-items: end;
    margin-bottom: 12px;
  }
  .soft {
    color: var(--soft);
    font-size: 13.5px;
  }
  .verdict {
    display: flex;
    gap: 8px;
    align-items: center;
    font-size: 18px;
    font-weight: 600;
    color: var(--inside);
  }
  .outside,
  .verdict.outside {
    color: var(--outside);
  }
  .below {
    display: grid;
    grid-template-columns: minmax(0, 1fr) minmax(300px, 420px);
    gap: 16px;
    margin-top: 16px;
    align-items: start;
  }
  .panel {
    background: var(--sheet);
    border: 1px solid var(--rule);
  }
  .panel h2 {
    padding: 10px 14px;
    border-bottom: 1px solid var(--rule);
  }
  .findings {
    grid-column: 1;
  }
  .below > .side {
    grid-column: 2;
    grid-row: 1 / span 4;
  }
  .side {
    padding-bottom: 14px;
  }
  .side h2 {
    margin-bottom: 10px;
  }
  .side h2:not(:first-child) {
    border-top: 1px solid var(--rule);
    margin-top: 14px;
  }
  .side > :global(*:not(h2)) {
    margin-left: 14px;
    margin-right: 14px;
  }
  .act {
    display: flex;
    flex-wrap: wrap;
    gap: 10px 14px;
    align-items: end;
    margin-top: 12px;
  }
  .history {
    font-size: 13.5px;
  }
  .figure {
    font-family: var(--figures);
    font-size: 12.5px;
    color: var(--soft);
  }
  ol {
    margin: 0;
    padding-left: 20px;
  }
  li {
    margin-bottom: 6px;
  }
  b {
    font-weight: 600;
  }
  b::first-letter {
    text-transform: uppercase;
  }
  .downloads {
    margin-top: 8px;
  }
  .downloads a {
    margin-right: 14px;
  }
  @media (max-width: 1180px) {
    .below {
      grid-template-columns: minmax(0, 1fr);
    }
    .below > .side {
      grid-column: 1;
      grid-row: auto;
      order: 1;
    }
    .findings {
      order: 2;
    }
  }
</style>
