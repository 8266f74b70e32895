<script lang="ts">
  // One recording: where it stands, what to do, and before and after.
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { getContext, untrack } from 'svelte';
  import AllReadings from '../components/AllReadings.svelte';
  import BenchKeys from '../components/BenchKeys.svelte';
  import BracketMark from '../components/BracketMark.svelte';
  import Button from '../components/Button.svelte';
  import Choice from '../components/Choice.svelte';
  import FindingsList from '../components/FindingsList.svelte';
  import GainWindowPicture from '../components/GainWindowPicture.svelte';
  import LevelRibbon from '../components/LevelRibbon.svelte';
  import PlayStrip from '../components/PlayStrip.svelte';
  import Progress from '../components/Progress.svelte';
  import RoomTone from '../components/RoomTone.svelte';
  import SpanReadings from '../components/SpanReadings.svelte';
  import StepLedger from '../components/StepLedger.svelte';
  import ToleranceRule from '../components/ToleranceRule.svelte';
  import ViewStrip from '../components/ViewStrip.svelte';
  import { Acting } from '../lib/acting.svelte';
  import { answer, api, type LimitVerdict } from '../lib/api';
  import { clock, facts, number } from '../lib/format';
  import type { Live } from '../lib/live.svelte';
  import type { Sound } from '../lib/levels';
  import { meanings, takenHere } from '../lib/methods';
  import { grouped, type Place } from '../lib/places';
  import { Player } from '../lib/player.svelte';
  import { reductionOf } from '../lib/reduction';
  import { RibbonView } from '../lib/ribbon-view.svelte';
  import { tracksOf } from '../lib/tracks';

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
    ['opus', 'Opus, 48 kHz'],
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
  let container = $state<'asked' | 'mp3' | 'opus' | 'wav' | 'flac'>('asked');
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
  // By what they are about; a group with a limit that is not met comes first, and in it that limit.
  const TITLES = { level: 'Level', between: 'Between the words', health: 'Health', file: 'File' };
  const limitGroups = $derived.by(() => {
    const of = (limit: LimitVerdict) => known.data?.quantities.get(limit.quantity)?.group ?? 'level';
    const found = Object.entries(TITLES).map(
      ([group, title]) => [title, limits.filter((limit) => of(limit) === group)] as const,
    );
    const misses = (some: readonly LimitVerdict[]) => Number(some.some((limit) => !limit.passes));
    return found.filter(([, some]) => some.length).sort(([, one], [, other]) => misses(other) - misses(one));
  });
  let marked = $state<{ from: number; to: number }>();
  function takenIn(quantity: string) {
    const reading = recording.data?.inspection?.readings[quantity];
    const [from, to] = [reading?.start_s ?? 0, reading?.end_s ?? 0];
    return to > 0 && to - from < view.duration - 0.02 ? { from, to } : undefined;
  }
  const groups = $derived(
    grouped(recording.data?.breaches ?? [], recording.data?.findings ?? [], recording.data?.facts?.duration_s ?? 0),
  );
  const after = (limit: LimitVerdict) => done?.after?.limits.find((found) => found.quantity === limit.quantity);
  const gain = $derived(done?.steps.find((step) => step.kind === 'gain')?.settings?.gain_db as number | undefined);

  const player = new Player();
  const view = new RibbonView();
  let kind = $state('');
  const places = $derived(groups.filter((group) => !kind || group.key === kind).flatMap((group) => group.places));
  $effect(() => view.open(recording.data?.facts?.duration_s ?? 0));
  $effect(() => {
    if (player.playing) view.follow(player.position);
  });
  const tracks = createQuery(() => ({
    queryKey: ['tracks', params.id, recording.data?.sha256],
    enabled: Boolean(recording.data?.inspection),
    queryFn: () => tracksOf(`/api/recordings/${params.id}`),
  }));
  const treated = createQuery(() => ({
    queryKey: ['treated', done?.id],
    enabled: done !== undefined,
    staleTime: Infinity,
    queryFn: async () => ({
      tracks: await tracksOf(`/api/conformings/${done?.id}`),
      reduction: await reductionOf(done?.id ?? ''),
    }),
  }));
  // What is heard is what is drawn; while two versions are compared blind, always the source.
  const shownSide = $derived(player.side === 'treated' && !player.hidden && done?.result ? 'treated' : 'source');
  const offset = $derived.by(() => {
    if (!done?.steps.some((step) => step.kind === 'head-and-tail')) return 0;
    const before = recording.data?.inspection?.readings.head_s?.value ?? 0;
    return (done.result?.head_s ?? before) - before;
  });
  const sound = $derived.by((): Sound => {
    const it = recording.data?.inspection;
    if (shownSide === 'treated' && done?.result) {
      const { sample_rate_hz: rate, frames } = done.result;
      return { address: `/api/conformings/${done.id}`, rate, duration: frames / rate, offset };
    }
    return {
      address: `/api/recordings/${params.id}`,
      rate: it?.facts.sample_rate_hz ?? 44_100,
      duration: it?.facts.duration_s ?? 0,
      offset: 0,
    };
  });
  const shownTracks = $derived(shownSide === 'treated' ? treated.data?.tracks : tracks.data);
  const byName = (places: Place[], kind: string) => places.map(({ start_s, end_s }) => ({ kind, start_s, end_s }));
  const path = $derived({ params: { path: { recording_id: params.id } } });
  const accept = (places: Place[], kind: string, reason: string) =>
    acting.attempt(async () =>
      answer(
        await api.PUT('/api/recordings/{recording_id}/accepted', {
          ...path,
          body: { findings: byName(places, kind), reason },
        }),
      ),
    );
  const takeBack = (places: Place[], kind: string) =>
    acting.attempt(async () =>
      answer(
        await api.POST('/api/recordings/{recording_id}/accepted/take-back', {
          ...path,
          body: { findings: byName(places, kind) },
        }),
      ),
    );
  const chooseRoomTone = (span: { start_s: number; end_s: number } | null) =>
    acting.attempt(async () => {
      const at = '/api/recordings/{recording_id}/room-tone' as const;
      answer(span ? await api.PUT(at, { ...path, body: span }) : await api.DELETE(at, path));
      view.selection = undefined;
    });
  /** Half a second before a place, so that it is heard coming. */
  function go(place: Place) {
    player.seek(Math.max(0, place.start_s - 0.5));
    view.reveal(place.start_s, place.end_s);
  }
  $effect(() => {
    const it = recording.data;
    if (!it?.inspection) return;
    const { facts: file, readings } = it.inspection;
    const source = {
      address: `/api/recordings/${it.id}/sound`,
      rate: file.sample_rate_hz,
      frames: file.frames,
      offset: 0,
      loudness: readings.integrated_loudness_lufs?.value ?? null,
    };
    const written = done?.result
      ? {
          address: `/api/conformings/${done.id}/sound`,
          rate: done.result.sample_rate_hz,
          frames: done.result.frames,
          offset,
          loudness: done.result.integrated_loudness_lufs,
        }
      : undefined;
    untrack(() => player.load(source, written));
  });
  $effect(() => () => player.stop());

  const conform = () => acting.conform(params.id, { preference, container: container === 'asked' ? null : container });
  const useAgain = () =>
    acting.attempt(async () =>
      answer(
        await api.POST('/api/recordings/{recording_id}/use-again', { params: { path: { recording_id: params.id } } }),
      ),
    );
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
        {#if it.facts}<p class="soft">
            {facts(it.facts)}, {clock(it.facts.duration_s)}. Report as
            <a href={`/api/recordings/${it.id}/report.pdf`} download>PDF</a>,
            <a href={`/api/recordings/${it.id}/report.html`} download>HTML</a>
          </p>{/if}
      </div>
      {#if it.verdict}
        {@const passes = shownSide === 'treated' ? done?.after?.passes : it.verdict.passes}
        <p class="verdict" class:outside={!passes}>
          <BracketMark position={passes ? 'inside' : 'over'} size={18} silent />
          {shownSide === 'treated' ? 'Treated: inside' : passes ? 'Inside' : 'Outside'}
          {it.specification.name}
        </p>
      {/if}
    </div>
    {#if acting.problem}<p class="outside" role="alert">{acting.problem}</p>{/if}
    {#if it.replaced_by}
      <p class="replaced">
        <a href={`#/recordings/${it.replaced_by}`}>{it.replaced_by_name}</a> has taken its place.
        <Button onclick={useAgain}>Use this one again</Button>
      </p>
    {/if}
    {#if it.ribbon && it.verdict && it.inspection}
      <LevelRibbon
        recordingId={it.id}
        {view}
        ribbon={it.ribbon}
        {sound}
        tracks={shownTracks}
        reduction={done ? treated.data?.reduction : undefined}
        limits={(shownSide === 'treated' && done?.after?.limits) || it.verdict.limits}
        pauses={shownSide === 'treated' ? [] : (it.inspection.pauses ?? [])}
        {places}
        playhead={player.position}
        {marked}
        onseek={(seconds) => player.seek(seconds)}
        ongo={go}
      />
      <PlayStrip {player} />
      <ViewStrip {view} {player} tracks={shownTracks} offset={sound.offset}>
        <BenchKeys {player} {view} {places} ongo={go} />
      </ViewStrip>
      {#if view.selection}
        <SpanReadings
          recordingId={it.id}
          selection={view.selection}
          facts={it.inspection.facts}
          meanings={known.data}
        />
      {/if}
      <div class="below">
        <section aria-label="Limits" class="panel">
          <h2>{it.specification.name}{done ? ': before and after' : ''}</h2>
          {#each limitGroups as [title, some] (title)}
            <h3>{title}</h3>
            {#each some as limit (limit.quantity)}<ToleranceRule
                {limit}
                after={after(limit)}
                method={known.data?.quantities.get(limit.quantity)}
                here={takenHere(it.inspection.readings[limit.quantity], it.inspection.facts)}
                taken={takenIn(limit.quantity)}
                onmark={(span) => (marked = span)}
                ongo={(span) => {
                  player.seek(span.from);
                  view.reveal(span.from, span.to);
                }}
              />{/each}
          {/each}
        </section>
        {#if groups.length}
          <section aria-label="Findings" class="panel findings">
            <h2>Findings</h2>
            <FindingsList
              {groups}
              meanings={known.data}
              {kind}
              onkind={(to) => (kind = to)}
              ongo={go}
              onaccept={accept}
              ontakeback={takeBack}
            />
          </section>
        {/if}
        {#if known.data}
          <section aria-label="All readings" class="panel findings">
            <h2>All readings</h2>
            <AllReadings inspection={it.inspection} meanings={known.data} after={done?.result?.readings} />
          </section>
        {/if}
        <section aria-label="Room tone and spectrum" class="panel findings">
          <h2>Room tone and spectrum</h2>
          <RoomTone
            recordingId={it.id}
            byHand={it.room_tone_chosen}
            inspection={it.inspection}
            selection={view.selection}
            onchoose={chooseRoomTone}
            ongo={(span) => {
              player.seek(span.from);
              view.reveal(span.from, span.to);
            }}
          />
        </section>
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
            <StepLedger steps={done.steps} ledger={done.ledger} outOfOrder={done.out_of_order} before={it.inspection} />
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
          {#if it.conformings.length || it.earlier.length}
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
              {#each it.earlier as older (older.id)}
                <li>
                  <span class="figure">{new Date(older.created_at).toLocaleString('en-GB')}</span>
                  took the place of <a href={`#/recordings/${older.id}`}>{older.name}</a>
                </li>
              {/each}
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
  .replaced {
    display: flex;
    gap: 10px;
    align-items: center;
    margin-bottom: 12px;
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
  .panel h3 {
    font-size: 12.5px;
    font-weight: 500;
    color: var(--soft);
    padding: 8px 14px 0;
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
    grid-row: 1 / span 5;
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
