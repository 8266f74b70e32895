<script lang="ts">
  // The bench: one recording, where it stands and what to do next; on the left what is looked at, on the right its treatment.
  import { untrack } from 'svelte';
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
  import RoomTone from '../components/RoomTone.svelte';
  import SectionBar from '../components/SectionBar.svelte';
  import SpanReadings from '../components/SpanReadings.svelte';
  import SpotWork from '../components/SpotWork.svelte';
  import StepDetail from '../components/StepDetail.svelte';
  import TreatmentPanel from '../components/TreatmentPanel.svelte';
  import TwoVersions from '../components/TwoVersions.svelte';
  import UnderWay from '../components/UnderWay.svelte';
  import Voices from '../components/Voices.svelte';
  import ViewStrip from '../components/ViewStrip.svelte';
  import { benchOf } from '../lib/bench.svelte';
  import { chapterHandles, endHandles } from '../lib/handles';
  import { meanings } from '../lib/methods';
  import { grouped, type Place } from '../lib/places';
  import { Player } from '../lib/player.svelte';
  import { Sittings } from '../lib/sittings';
  import { RibbonView } from '../lib/ribbon-view.svelte';
  import Problem from '../components/Problem.svelte';

  let { params }: { params: { id: string; left?: string; right?: string } } = $props();
  /** Two versions that are compared stand in the address as the left half: versions-1-2. */
  const pair = $derived.by(() => {
    const [, one, other] = /^versions-(\d+)-(\d+)$/.exec(params.left ?? '') ?? [];
    return one && other ? { one: Number(one), other: Number(other) } : undefined;
  });
  const bench = benchOf(
    () => params.id,
    () => pair,
    () => params.left === 'bed',
  );
  const { acting } = bench;
  const known = meanings();
  const { treating, recording, done, expected, expectedLimits } = $derived(bench);
  let marked = $state<{ from: number; to: number }>();
  const groups = $derived(
    grouped(recording?.breaches ?? [], recording?.findings ?? [], recording?.facts?.duration_s ?? 0),
  );

  // What both halves show stands in the address: /recordings/ID/findings/result.
  const left = $derived(params.left ?? 'limits');
  const right = $derived(params.right ?? 'treatment');
  const address = (to: { left?: string; right?: string }) =>
    `/recordings/${params.id}/${to.left ?? left}/${to.right ?? right}`;
  const step = $derived(/^step-\d+$/.test(left) ? Number(left.slice(5)) : undefined);
  const opened = $derived(step === undefined ? undefined : treating.steps[step - 1]);
  const openStep = (place: number | undefined) =>
    void replace(address({ left: place === undefined ? (step === undefined ? left : 'limits') : `step-${place}` }));

  const offeredStep = $derived(bench.groups.flatMap((group) => group.steps).find((one) => one.kind === opened?.kind));
  /** How much of the window's height stays taken by ribbon and strips. */
  let stays = $state(0);

  const player = new Player();
  const sittings = new Sittings();
  player.onheard = (track, from, to) => sittings.heard(track, from, to);
  $effect(() => () => {
    player.stop();
    sittings.end();
  });
  const view = new RibbonView();
  let kind = $state('');
  const places = $derived(groups.filter((group) => !kind || group.key === kind).flatMap((group) => group.places));
  $effect(() => view.open(recording?.facts?.duration_s ?? 0, params.id));
  $effect(() => {
    if (player.playing) view.follow(player.position);
  });
  // What is heard is what is drawn; while two versions are compared blind, always the source.
  const treatedShown = $derived(player.side === 'treated' && !player.hidden);
  const shownSide = $derived(
    treatedShown && !bench.drafting && bench.versionAt('treated')?.result ? 'treated' : 'source',
  );
  /** The version that is drawn; undefined for the recording itself. */
  const shown = $derived(bench.versionAt(shownSide));
  const sound = $derived(bench.soundOf(shownSide));
  const tracks = $derived(bench.tracksOf(shownSide));
  const coming = $derived(Boolean(bench.settling));
  $effect(() => {
    const [heard, soon] = [bench.heard, coming];
    untrack(() => (heard ? player.load(heard.source, heard.treated, heard.names) : player.unload(soon)));
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
  /** Hear a place with what comes before it. */
  function hear(at: number, to: number) {
    player.stop();
    player.seek(Math.max(0, at - 2));
    view.reveal(at, to);
    player.swap('source');
    player.toggle();
  }
  function goTo(from: number, to: number) {
    player.seek(from);
    view.reveal(from, to);
  }

  const ends = $derived.by(() => {
    const of = recording?.inspection;
    const [head, tail] = [of?.readings.head_s?.value, of?.readings.tail_s?.value];
    if (!of || typeof head !== 'number' || typeof tail !== 'number') return undefined;
    return { head, tail, duration: of.facts.duration_s };
  });
  /** What can be moved on the ribbon while the edits are looked at. */
  const handles = $derived.by(() => {
    if (left !== 'edits' || shown || bench.settling || !ends) return [];
    const move = (chapter: string, at_s: number) => bench.changeChapter(chapter, { at_s });
    const set = (wish: { head_s?: number; tail_s?: number }) => bench.edit({ what: 'ends', ...wish });
    return [...endHandles(ends, set), ...chapterHandles(bench.chapters, ends.duration, move)];
  });

  /** Loaded when it is first looked at: most recordings are never edited. */
  const editing = () => import('../components/Edits.svelte');
  /** Alike: most voices stand alone. */
  const bedding = () => import('../components/Bed.svelte');
  const strip = () => import('../components/BedStrip.svelte');

  const lefts = $derived([
    { name: 'limits', title: 'Limits', address: address({ left: 'limits' }) },
    { name: 'findings', title: 'Findings', address: address({ left: 'findings' }), count: groups.length },
    { name: 'readings', title: 'Readings', address: address({ left: 'readings' }) },
    { name: 'room-tone', title: 'Room tone', address: address({ left: 'room-tone' }) },
    {
      name: 'voices',
      title: 'Voices',
      address: address({ left: 'voices' }),
      count: bench.turns?.turns.length ? 2 : undefined,
    },
    { name: 'edits', title: 'Edits', address: address({ left: 'edits' }), count: bench.edits?.edits.length },
    { name: 'bed', title: 'Bed', address: address({ left: 'bed' }), count: bench.bed?.bed.clips?.length },
    ...(pair
      ? [
          {
            name: left,
            title: [pair.one, pair.other].includes(0)
              ? `Version ${pair.one + pair.other} and recording`
              : `Versions ${pair.one} and ${pair.other}`,
            address: address({ left }),
          },
        ]
      : []),
    ...(opened && step ? [{ name: left, title: `${step}. ${opened.reading.title}`, address: address({ left }) }] : []),
  ]);
  const rights = $derived([
    { name: 'treatment', title: 'Treatment', address: address({ right: 'treatment' }) },
    ...(expected ? [{ name: 'ledger', title: 'Ledger', address: address({ right: 'ledger' }) }] : []),
    ...(done ? [{ name: 'result', title: 'Result', address: address({ right: 'result' }) }] : []),
    { name: 'history', title: 'History', address: address({ right: 'history' }) },
  ]);

  /** What is looked at, and whether it passes. */
  const lookedAt = $derived(treatedShown && expectedLimits ? 'expected' : shown ? 'treated' : 'recording');
  const passes = $derived(
    lookedAt === 'expected'
      ? expectedLimits?.every((limit) => limit.passes || limit.severity !== 'must')
      : lookedAt === 'treated'
        ? shown?.after?.passes
        : recording?.verdict?.passes,
  );
</script>

<svelte:head><title>{recording?.name ?? 'Recording'} · Ispettore</title></svelte:head>
<main>
  {#if bench.query.isError}
    <Problem query={bench.query} />
  {:else if recording}
    {@const it = recording}
    <BenchHead
      recording={it}
      {acting}
      of={lookedAt}
      {passes}
      version={pair && !player.hidden ? player.names[shownSide] : undefined}
      onuseagain={bench.useAgain}
    />
    {#if it.ribbon && it.verdict && it.inspection}
      <div class="stay" bind:clientHeight={stays}>
        <LevelRibbon
          recordingId={it.id}
          knownAs={it.known_as}
          {view}
          ribbon={it.ribbon}
          {sound}
          {tracks}
          reduction={treatedShown && bench.drafting
            ? undefined
            : bench.reductionOf(bench.compared ? shownSide : 'treated')}
          limits={(treatedShown && expectedLimits) || shown?.after?.limits || it.verdict.limits}
          expected={treatedShown ? expected : undefined}
          turns={bench.turns?.turns ?? []}
          edits={shown || bench.settling ? [] : (bench.edits?.edits ?? [])}
          pauses={shown ? [] : (it.inspection.pauses ?? [])}
          {places}
          chapters={shown ? [] : bench.chapters}
          {handles}
          playhead={player.position}
          playing={player.playing}
          {marked}
          onseek={(seconds) => player.seek(seconds)}
          ongo={go}
          onfile={shown || bench.settling ? undefined : bench.retake}
        />
        {#if bench.bed?.bed.clips?.length && !bench.settling}
          {@const bed = bench.bed}
          {#await strip() then { default: BedStrip }}<BedStrip
              recordingId={it.id}
              knownAs={it.known_as}
              {view}
              {bed}
              playhead={player.position}
            />{/await}
        {/if}
        {#if bench.settling}<UnderWay work={bench.settling} about={it.name} waiting="Queued" {acting} />{/if}
        <PlayStrip {player} />
        <ViewStrip {view} {player} {tracks} offset={sound.offset} />
        <BenchKeys
          {player}
          {view}
          {places}
          ongo={go}
          onundo={() => (left === 'edits' ? bench.undoEdit() : treating.undo())}
          onredo={() => (left === 'edits' ? bench.redoEdit() : treating.redo())}
        />
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
          {:else if left === 'voices'}
            <section aria-label="Voices">
              <Voices
                view={bench.turns}
                problem={treating.problem || acting.problem}
                duration={it.inspection.facts.duration_s}
                selection={view.selection}
                reference={it.reference ?? undefined}
                ongo={(span) => goTo(span.from, span.to)}
                oncorrect={async (turns) => {
                  await bench.correctTurns(turns);
                  if (!acting.problem) view.selection = undefined;
                }}
                onmatch={(wanted) => treating.matchVoices(wanted)}
              />
            </section>
          {:else if left === 'edits'}
            <section aria-label="Edits">
              {#await editing() then { default: Edits }}<Edits
                  recordingId={it.id}
                  knownAs={bench.settling ? '' : it.known_as}
                  edits={bench.edits}
                  {groups}
                  repeats={it.inspection.repeats ?? []}
                  rate={it.inspection.facts.sample_rate_hz}
                  problem={acting.problem}
                  selection={view.selection}
                  playhead={player.position}
                  {ends}
                  limits={it.verdict.limits}
                  chapters={bench.chapters}
                  duration={it.inspection.facts.duration_s}
                  onchapter={bench.addChapter}
                  onnamechapter={(chapter, title) => bench.changeChapter(chapter, { title })}
                  onremovechapter={bench.removeChapter}
                  ongo={(at) => goTo(at, at)}
                  onedit={async (wish) => {
                    const done = await bench.edit(wish);
                    if (done) view.selection = undefined;
                  }}
                  onretake={bench.retake}
                  onsplit={bench.splitAt}
                  onjoin={bench.joinNext}
                  {acting}
                  onundo={bench.undoEdit}
                  onredo={bench.redoEdit}
                  onhear={hear}
                  onhush={() => player.stop()}
                  onshow={(from, to) => {
                    goTo(from, to);
                    view.select(from, to);
                  }}
                  onleave={bench.accept}
                  onreturn={bench.takeBack}
                />{:catch}<p class="outside past" role="alert">
                  The edits could not be loaded. Reload the page.
                </p>{/await}
            </section>
          {:else if left === 'bed'}
            <section aria-label="Bed">
              {#await bedding() then { default: Bed }}{#if bench.bed}<Bed
                    recordingId={it.id}
                    bed={bench.bed}
                    {acting}
                    playhead={player.position}
                    onhear={(at) => {
                      player.stop();
                      goTo(Math.max(0, at - 1), at);
                      player.swap('treated');
                      player.toggle();
                    }}
                  />{/if}{:catch}<p class="outside past" role="alert">
                  The bed could not be loaded. Reload the page.
                </p>{/await}
            </section>
          {:else if pair}
            <section aria-label="Two versions">
              <TwoVersions recordingId={it.id} one={pair.one} other={pair.other} meanings={known.data} />
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
                  onaccept={bench.accept}
                  ontakeback={bench.takeBack}
                />
              {:else}<p class="nothing">No findings.</p>{/if}
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
                onchoose={async (span) => {
                  await bench.chooseRoomTone(span);
                  if (!acting.problem) view.selection = undefined;
                }}
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
                heard={bench.heardUpto}
                onhear={(id) => {
                  bench.heardUpto = id;
                  player.swap('treated');
                  if (!player.playing) void player.play();
                }}
              />
            </section>
          {:else if right === 'history'}
            <section aria-label="History" class="past">
              <History
                recording={it}
                {acting}
                compared={pair}
                oncompare={(to) => void replace(address({ left: to ? `versions-${to.one}-${to.other}` : 'limits' }))}
              />
            </section>
          {:else}
            <section aria-label="Treatment">
              <TreatmentPanel
                recording={it}
                {acting}
                {treating}
                awaited={bench.awaitsPlans}
                groups={bench.groups}
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
      <UnderWay work={it.work} about={it.name} waiting="Queued" {acting} />
    {/if}
  {/if}
</main>

<style>
  main {
    padding: var(--space-5) var(--space-7) var(--space-5);
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
    gap: var(--space-6);
    margin-top: var(--space-5);
    align-items: start;
  }
  .half {
    position: relative;
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
    font-size: var(--type-small);
    font-weight: 500;
    color: var(--soft);
    padding: var(--space-4) var(--space-5) 0;
  }
  .nothing,
  .past {
    padding: var(--space-4) var(--space-5);
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
  @media print {
    .half {
      max-height: none;
      overflow: visible;
    }
  }
</style>
