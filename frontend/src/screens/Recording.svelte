<script lang="ts">
  // The bench: one recording, where it stands and what to do next; on the left what is looked at, on the right its treatment.
  import { createQuery, keepPreviousData, useQueryClient } from '@tanstack/svelte-query';
  import { getContext, untrack } from 'svelte';
  import { replace } from 'svelte-spa-router';
  import AllReadings from '../components/AllReadings.svelte';
  import BenchHead from '../components/BenchHead.svelte';
  import BenchKeys from '../components/BenchKeys.svelte';
  import Button from '../components/Button.svelte';
  import DraftLedger from '../components/DraftLedger.svelte';
  import FindingsList from '../components/FindingsList.svelte';
  import LevelRibbon from '../components/LevelRibbon.svelte';
  import LimitGroups from '../components/LimitGroups.svelte';
  import History from '../components/History.svelte';
  import Outcome from '../components/Outcome.svelte';
  import PlayStrip from '../components/PlayStrip.svelte';
  import Progress from '../components/Progress.svelte';
  import RoomTone from '../components/RoomTone.svelte';
  import SectionBar from '../components/SectionBar.svelte';
  import SpanReadings from '../components/SpanReadings.svelte';
  import SpotWork from '../components/SpotWork.svelte';
  import StepDetail from '../components/StepDetail.svelte';
  import TreatmentPanel from '../components/TreatmentPanel.svelte';
  import ViewStrip from '../components/ViewStrip.svelte';
  import { Acting } from '../lib/acting.svelte';
  import { answer, api, type RecordingDetail } from '../lib/api';
  import type { Live } from '../lib/live.svelte';
  import type { Sound } from '../lib/levels';
  import { meanings } from '../lib/methods';
  import { grouped, type Place } from '../lib/places';
  import { Player } from '../lib/player.svelte';
  import { reductionOf } from '../lib/reduction';
  import { RibbonView } from '../lib/ribbon-view.svelte';
  import { tracksOf } from '../lib/tracks';
  import { ofDraft, ofFile, turnOf } from '../lib/sounding';
  import { Treating } from '../lib/treating.svelte';

  let { params }: { params: { id: string; left?: string; right?: string } } = $props();
  const live = getContext<Live>('live');
  const client = useQueryClient();
  const recording = createQuery(() => ({
    queryKey: ['recording', params.id],
    queryFn: async () =>
      answer(
        await api.GET('/api/recordings/{recording_id}', { params: { path: { recording_id: params.id } } }),
      ) as RecordingDetail,
  }));
  const known = meanings();
  const acting = new Acting(client);
  // What was made last for the specification of now, else the file that counts; what brought nothing takes nothing away.
  const done = $derived.by(() => {
    const made = recording.data?.conformings.filter((attempt) => attempt.sha256) ?? [];
    return made.find((one) => one.current) ?? made.find((one) => one.id === recording.data?.delivered?.id);
  });
  let marked = $state<{ from: number; to: number }>();
  const groups = $derived(
    grouped(recording.data?.breaches ?? [], recording.data?.findings ?? [], recording.data?.facts?.duration_s ?? 0),
  );

  // What both halves show stands in the address: /recordings/ID/findings/result.
  const left = $derived(params.left ?? 'limits');
  const right = $derived(params.right ?? 'treatment');
  const address = (to: { left?: string; right?: string }) =>
    `/recordings/${params.id}/${to.left ?? left}/${to.right ?? right}`;
  const step = $derived(/^step-\d+$/.test(left) ? Number(left.slice(5)) : undefined);
  const id = $derived(params.id); // the same string while only the sections of the address change
  const treating = $derived(new Treating(id));
  const opened = $derived(step === undefined ? undefined : treating.steps[step - 1]);
  const openStep = (place: number | undefined) =>
    void replace(address({ left: place === undefined ? (step === undefined ? left : 'limits') : `step-${place}` }));

  const drafted = createQuery(() => ({
    queryKey: ['draft', params.id],
    enabled: Boolean(recording.data?.inspection),
    queryFn: () => treating.read(),
  }));
  $effect(() => {
    const found = drafted.data;
    untrack(() => treating.told(found));
  });
  const offered = createQuery(() => ({
    queryKey: ['steps', params.id],
    enabled: Boolean(recording.data?.inspection),
    queryFn: async () =>
      answer(await api.GET('/api/recordings/{recording_id}/steps', { params: { path: { recording_id: params.id } } })),
  }));
  // What is drafted and not yet what was made is what "treated" means; what it is expected to bring is asked for with every change.
  const drafting = $derived(
    treating.steps.some((one) => one.on) && done?.draft !== treating.view?.number && (treating.view?.number ?? 0) > 0,
  );
  const foretold = createQuery(() => ({
    queryKey: ['foretold', params.id, recording.data?.specification.version, treating.view?.number],
    enabled: drafting && Boolean(treating.view?.ready),
    staleTime: Infinity,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: async ({ signal }) =>
      answer(
        await api.GET('/api/recordings/{recording_id}/draft/foretold', {
          params: {
            path: { recording_id: params.id },
            query: { number: treating.view?.number ?? 0, turn: turnOf(params.id, treating.view?.number ?? 0) },
          },
          signal,
        }),
      ),
  }));
  const expected = $derived(drafting && treating.view?.ready ? foretold.data : undefined);
  const expectedLimits = $derived(expected?.lines.at(-1)?.limits);
  /** The step after which the treated sound is heard; the last where none is named. */
  let heardUpto = $state<string>();
  const expectedLoudness = $derived.by(() => {
    const place = treating.steps.filter((one) => one.on).findIndex((one) => one.id === heardUpto);
    const line = place < 0 ? undefined : expected?.lines[place + 1];
    return (line ? line.readings.integrated_loudness_lufs : expected?.loudness_lufs) ?? null;
  });
  const offeredStep = $derived(offered.data?.flatMap((group) => group.steps).find((one) => one.kind === opened?.kind));
  // Plans are worked out as soon as a recording that needs them is looked at.
  const unplanned = $derived(
    recording.data?.inspection && !recording.data.planning && !recording.data.older_methods && !done
      ? params.id
      : undefined,
  );
  $effect(() => {
    if (unplanned) void acting.plan(unplanned);
  });

  function byKey(event: KeyboardEvent) {
    const field = (event.target as HTMLElement).closest('input, textarea, select');
    if (field || !(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== 'z') return;
    event.preventDefault();
    void (event.shiftKey ? treating.redo() : treating.undo());
  }

  /** How much of the window's height stays taken by ribbon and strips. */
  let stays = $state(0);

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
  const treatedShown = $derived(player.side === 'treated' && !player.hidden);
  const shownSide = $derived(treatedShown && !drafting && done?.result ? 'treated' : 'source');
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
  /** Go to a place and select it, so that something can be done to it. */
  function pick(place: Place) {
    go(place);
    const short = Math.max(0, 0.01 - (place.end_s - place.start_s)) / 2;
    view.select(Math.max(0, place.start_s - short), place.end_s + short);
  }
  function goTo(from: number, to: number) {
    player.seek(from);
    view.reveal(from, to);
  }
  $effect(() => {
    const it = recording.data;
    if (!it?.inspection) return;
    const { facts: file, readings } = it.inspection;
    const source = ofFile(`/api/recordings/${it.id}/sound`, {
      rate: file.sample_rate_hz,
      frames: file.frames,
      offset: 0,
      loudness: readings.integrated_loudness_lufs?.value ?? null,
    });
    const { sample_rate_hz: rate, duration_s: duration } = file;
    const written = drafting
      ? ofDraft(it.id, treating.view?.number ?? 0, { rate, duration, loudness: expectedLoudness, upto: heardUpto })
      : done?.result &&
        ofFile(`/api/conformings/${done.id}/sound`, {
          rate: done.result.sample_rate_hz,
          frames: done.result.frames,
          offset,
          loudness: done.result.integrated_loudness_lufs,
        });
    untrack(() => player.load(source, written ?? undefined));
  });
  $effect(() => () => player.stop());

  const lefts = $derived([
    { name: 'limits', title: 'Limits', address: address({ left: 'limits' }) },
    { name: 'findings', title: 'Findings', address: address({ left: 'findings' }), count: groups.length },
    { name: 'readings', title: 'Readings', address: address({ left: 'readings' }) },
    { name: 'room-tone', title: 'Room tone', address: address({ left: 'room-tone' }) },
    ...(opened && step ? [{ name: left, title: `${step}. ${opened.reading.title}`, address: address({ left }) }] : []),
  ]);
  const rights = $derived([
    { name: 'treatment', title: 'Treatment', address: address({ right: 'treatment' }) },
    ...(expected ? [{ name: 'ledger', title: 'Ledger', address: address({ right: 'ledger' }) }] : []),
    ...(done ? [{ name: 'result', title: 'Result', address: address({ right: 'result' }) }] : []),
    { name: 'history', title: 'History', address: address({ right: 'history' }) },
  ]);

  /** What is looked at, and whether it passes. */
  const lookedAt = $derived(
    treatedShown && expectedLimits ? 'expected' : shownSide === 'treated' ? 'treated' : 'recording',
  );
  const passes = $derived(
    lookedAt === 'expected'
      ? expectedLimits?.every((limit) => limit.passes || limit.severity !== 'must')
      : lookedAt === 'treated'
        ? done?.after?.passes
        : recording.data?.verdict?.passes,
  );

  const useAgain = () =>
    acting.attempt(async () =>
      answer(
        await api.POST('/api/recordings/{recording_id}/use-again', { params: { path: { recording_id: params.id } } }),
      ),
    );
</script>

<svelte:window onkeydown={byKey} />
<svelte:head><title>{recording.data?.name ?? 'Recording'} · Ispettore</title></svelte:head>
<main>
  {#if recording.isError}
    <p role="alert">{recording.error.message}</p>
  {:else if recording.data}
    {@const it = recording.data}
    <BenchHead recording={it} {acting} of={lookedAt} {passes} onuseagain={useAgain} />
    {#if it.ribbon && it.verdict && it.inspection}
      <div class="stay" bind:clientHeight={stays}>
        <LevelRibbon
          recordingId={it.id}
          {view}
          ribbon={it.ribbon}
          {sound}
          tracks={shownTracks}
          reduction={done && !(treatedShown && drafting) ? treated.data?.reduction : undefined}
          limits={(treatedShown && expectedLimits) ||
            (shownSide === 'treated' && done?.after?.limits) ||
            it.verdict.limits}
          expected={treatedShown ? expected : undefined}
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
      </div>
      {#if view.selection}
        <SpotWork
          recordingId={it.id}
          selection={view.selection}
          onspot={async (offer) => openStep((await treating.spot(offer)) + 1)}
        />
        <SpanReadings
          recordingId={it.id}
          selection={view.selection}
          facts={it.inspection.facts}
          meanings={known.data}
        />
      {/if}
      <div class="halves" style:--stays={`${stays}px`}>
        <div class="half">
          <h2 class="visually-hidden">Inspect</h2>
          <SectionBar label="Inspect" sections={lefts} current={left} />
          {#if opened && step}
            <section aria-label={`Step ${step}, ${opened.reading.title}`}>
              <StepDetail
                recordingId={it.id}
                state={treating.view?.number ?? 0}
                step={opened}
                number={step}
                count={treating.steps.length}
                offered={offeredStep}
                selection={view.selection}
                onset={(path, value) => treating.set(opened.id, path, value)}
                onsets={(values) => treating.setAll(opened.id, values)}
                onmove={async (to) => {
                  await treating.move(opened.id, to);
                  openStep(to + 1);
                }}
                onturn={() => treating.turn(opened.id)}
                onduplicate={() => treating.duplicate(opened.id)}
                onremove={async () => {
                  await treating.remove(opened.id);
                  openStep(undefined);
                }}
                ongo={(span) => goTo(span.from, span.to)}
              />
            </section>
          {:else if left === 'findings'}
            <section aria-label="Findings">
              {#if groups.length}
                <FindingsList
                  {groups}
                  meanings={known.data}
                  {kind}
                  onkind={(to) => (kind = to)}
                  ongo={pick}
                  onaccept={accept}
                  ontakeback={takeBack}
                />
              {:else}<p class="nothing">Nothing was found that needs a look.</p>{/if}
            </section>
          {:else if left === 'readings'}
            <section aria-label="All readings">
              {#if known.data}<AllReadings
                  inspection={it.inspection}
                  meanings={known.data}
                  after={done?.result?.readings}
                />{/if}
            </section>
          {:else if left === 'room-tone'}
            <section aria-label="Room tone and spectrum">
              <RoomTone
                recordingId={it.id}
                byHand={it.room_tone_chosen}
                inspection={it.inspection}
                selection={view.selection}
                onchoose={chooseRoomTone}
                ongo={(span) => goTo(span.from, span.to)}
              />
            </section>
          {:else}
            <section aria-label="Limits">
              <h2>
                {it.specification.name}{expectedLimits ? ': now and expected' : done ? ': before and after' : ''}
              </h2>
              <LimitGroups
                limits={(!expectedLimits && done?.before?.limits) || it.verdict.limits}
                after={expectedLimits ?? done?.after?.limits ?? []}
                expected={expectedLimits !== undefined}
                inspection={it.inspection}
                meanings={known.data}
                onmark={(span) => (marked = span)}
                ongo={(span) => goTo(span.from, span.to)}
              />
            </section>
          {/if}
        </div>
        <div class="half">
          <h2 class="visually-hidden">Treat</h2>
          <SectionBar label="Treat" sections={rights} current={right} />
          {#if right === 'result' && done}
            <section aria-label="Result"><Outcome {done} before={it.inspection} /></section>
          {:else if right === 'ledger' && expected}
            <section aria-label="Step ledger">
              <DraftLedger
                {expected}
                steps={treating.steps}
                heard={heardUpto}
                onhear={(id) => {
                  heardUpto = id;
                  player.swap('treated');
                  if (!player.playing) player.toggle();
                }}
              />
            </section>
          {:else if right === 'history'}
            <section aria-label="History" class="past"><History recording={it} /></section>
          {:else}
            <section aria-label="Treatment">
              <TreatmentPanel
                recording={it}
                {acting}
                {treating}
                groups={offered.data ?? []}
                {expected}
                open={step}
                onopen={openStep}
                onplan={() => acting.plan(it.id)}
              />
            </section>
          {/if}
        </div>
      </div>
    {:else if it.work?.state === 'failed'}
      <p class="outside" role="alert">{it.work.error}</p>
      <Button strong onclick={() => acting.measure(it.id)}>Measure again</Button>
    {:else if it.work?.state === 'cancelled'}
      <p>Measuring was cancelled.</p>
      <Button strong onclick={() => acting.measure(it.id)}>Measure</Button>
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
    padding: 12px 24px 14px;
  }
  .outside {
    color: var(--outside);
  }
  .stay {
    position: sticky;
    top: 0;
    z-index: 10;
    background: var(--paper);
  }
  .halves {
    display: grid;
    grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
    gap: 16px;
    margin-top: 14px;
    align-items: start;
  }
  .half {
    background: var(--sheet);
    border: 1px solid var(--rule);
    max-height: calc(100vh - var(--stays) - 28px);
    min-height: 180px;
    overflow-y: auto;
    scrollbar-width: thin;
  }
  .half > :global(nav) {
    position: sticky;
    top: 0;
    z-index: 2;
    background: var(--sheet);
  }
  h2 {
    font-size: 13px;
    font-weight: 500;
    color: var(--soft);
    padding: 8px 14px 0;
  }
  .nothing,
  .past {
    padding: 10px 14px;
  }
  @media (max-width: 900px), (max-height: 500px) {
    .stay {
      position: static;
    }
    .halves {
      grid-template-columns: minmax(0, 1fr);
    }
    .half {
      max-height: none;
    }
  }
</style>
