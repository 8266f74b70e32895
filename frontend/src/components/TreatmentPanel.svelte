<script lang="ts">
  // The treatment: plans to begin with, its steps as sentences, running it, and what was missing when it ran.
  import { getContext, tick } from 'svelte';
  import type { Acting } from '../lib/acting.svelte';
  import type {
    Foretold,
    Format,
    OfferedStep,
    Preference,
    RecordingDetail,
    StepGroup,
    TreatmentSummary,
  } from '../lib/api';
  import type { Live } from '../lib/live.svelte';
  import type { Treating } from '../lib/treating.svelte';
  import { underWay } from '../lib/works';
  import AddStep from './AddStep.svelte';
  import Button from './Button.svelte';
  import Choice from './Choice.svelte';
  import GainWindowPicture from './GainWindowPicture.svelte';
  import LinkButton from './LinkButton.svelte';
  import PlanRows from './PlanRows.svelte';
  import Progress from './Progress.svelte';
  import SavedTreatment from './SavedTreatment.svelte';
  import SaveTreatment from './SaveTreatment.svelte';
  import StepLine from './StepLine.svelte';
  import UnderWay from './UnderWay.svelte';
  interface Props {
    recording: RecordingDetail;
    acting: Acting;
    treating: Treating;
    /** Whether plans are about to be worked out. */
    awaited: boolean;
    /** The steps that can be added. */
    groups: StepGroup[];
    /** What the draft is expected to bring, once that is worked out. */
    expected: Foretold | undefined;
    /** The step whose picture is shown, by its place from 1. */
    open: number | undefined;
    onopen: (place: number | undefined) => void;
    onplan: () => void;
  }
  let { recording, acting, treating, awaited, groups, expected, open, onopen, onplan }: Props = $props();
  const live = getContext<Live>('live');

  const view = $derived(treating.view);
  const steps = $derived(treating.steps);
  const planning = $derived(recording.planning);
  const planned = $derived(underWay(planning?.work ?? null));
  const NAMES: Record<Preference, [string, string]> = {
    light: ['Light', 'least processing'],
    balanced: ['Balanced', 'some evening where it helps'],
    even: ['Even', 'steady level throughout'],
  };
  const rows = $derived([
    ...(planning?.plans ?? []).map((plan) => ({
      key: plan.preference as string,
      name: NAMES[plan.preference][0],
      called: `the ${plan.preference} plan`,
      about: NAMES[plan.preference][1],
      plan,
      current: view?.plan === plan.preference,
      onuse: () => void treating.choose(plan.preference),
    })),
    ...recording.kept_plans.flatMap(({ kept, plans }) =>
      kept && plans[0]
        ? [
            {
              key: kept.id,
              name: kept.name,
              called: kept.name,
              about: `version ${kept.version}`,
              plan: plans[0],
              current: view?.kept?.id === kept.id,
              onuse: () => void treating.chooseKept(kept.id, false),
            },
          ]
        : [],
    ),
  ]);
  async function tryKept(treatment: TreatmentSummary, reference: boolean) {
    if (treatment.finish === 'given') await treating.chooseKept(treatment.id, reference);
    else await acting.planWithKept(recording.id, treatment.id, reference);
  }
  let saving = $state(false);
  let saved = $state<{ id: string; said: string }>();
  const latest = $derived(recording.conformings[0]);
  const running = $derived(underWay(latest?.work ?? null));
  const missed = $derived(latest?.current && !latest.sha256 && latest.obstacles.length ? latest : undefined);

  let container = $state<Format['name']>('');
  const formats = $derived(
    recording.formats.map(
      ({ name, title, meets }) =>
        [name, name === '' ? `${title}, as required` : meets ? title : `${title}, not as required`] as const,
    ),
  );
  const chosen = $derived(formats.some(([name]) => name === container) ? container : (formats[0]?.[0] ?? ''));
  // Until somebody drafts anything, conforming plans by itself.
  const drafted = $derived((view?.number ?? 0) > 0);
  const again = $derived(recording.conformings.some((attempt) => attempt.current && attempt.sha256));
  const run = () =>
    drafted
      ? acting.runDraft(recording.id, { container: chosen || null })
      : acting.conform(recording.id, { container: chosen || null });

  const gain = $derived(steps.findLast((step) => step.kind === 'gain' && step.on));
  const gainDb = $derived((gain?.settings?.gain_db as number | undefined) ?? (expected ? 0 : undefined));
  const gainWindow = $derived(expected?.window ?? recording.window);
  /** The hand on the gain window's axis: the last gain, or a new one where it belongs. */
  function setGain(gain_db: number) {
    const offered = groups.flatMap((group) => group.steps).find((step) => step.kind === 'gain');
    if (gain) void treating.set(gain.id, 'gain_db', gain_db);
    else if (offered) void treating.add({ ...offered, settings: { gain_db } });
  }

  /** Who works by keys goes on where something came or went. */
  async function goOn(place: number) {
    await tick();
    const steps = list?.querySelectorAll<HTMLElement>('.handle') ?? [];
    (steps[Math.min(place, steps.length - 1)] ?? adding?.querySelector('button'))?.focus();
  }
  async function add(offered: OfferedStep) {
    const place = await treating.add(offered);
    onopen(place + 1);
    await goOn(place);
  }

  // Steps are dragged by their numbers; the pointer's place among the others tells where one lands.
  let list: HTMLOListElement | undefined = $state();
  let adding: HTMLElement | undefined = $state();
  let dragged = $state<string>();
  let landing = $state<number>();
  function grab(event: PointerEvent, id: string): void {
    if (event.button) return;
    const from = event.clientY;
    const handle = event.currentTarget as HTMLElement;
    handle.setPointerCapture(event.pointerId);
    const moved = (to: PointerEvent) => {
      if (!dragged && Math.abs(to.clientY - from) < 5) return;
      dragged = id;
      const boxes = [...(list?.children ?? [])].map((line) => line.getBoundingClientRect());
      landing = boxes.filter((box) => to.clientY > box.top + box.height / 2).length;
    };
    const ended = (to: Event) => {
      handle.removeEventListener('pointermove', moved);
      handle.removeEventListener('pointerup', ended);
      handle.removeEventListener('pointercancel', ended);
      const at = steps.findIndex((step) => step.id === id);
      if (dragged && landing !== undefined && to.type === 'pointerup') {
        handle.addEventListener('click', (click) => click.stopImmediatePropagation(), { capture: true, once: true });
        const place = landing > at ? landing - 1 : landing;
        if (place !== at) void treating.move(id, place);
      }
      dragged = landing = undefined;
    };
    handle.addEventListener('pointermove', moved);
    handle.addEventListener('pointerup', ended);
    handle.addEventListener('pointercancel', ended);
  }
  const landingAt = (index: number) =>
    landing === index ? 'above' : landing === steps.length && index === steps.length - 1 ? 'below' : undefined;

  /** The key that moved a step stays on it. */
  async function move(id: string, to: number) {
    await treating.move(id, to);
    if (open !== undefined) onopen(to + 1);
    await goOn(to);
  }
  async function remove(id: string) {
    const place = steps.findIndex((step) => step.id === id);
    await treating.remove(id);
    onopen(undefined);
    await goOn(place);
  }
</script>

<section aria-label="Plans to choose from">
  {#if planned}
    <div class="pad">
      <UnderWay work={planned} about={`plans for ${recording.name}`} waiting="Queued for planning" {acting} />
    </div>
  {:else if planning?.obstacles.length}
    <div class="pad">
      <h3 class="outside">No plan can meet this specification</h3>
      {#each planning.obstacles as obstacle (obstacle.advice)}<p>{obstacle.advice}</p>{/each}
    </div>
  {:else if planning?.work?.state === 'failed'}
    <p class="pad outside" role="alert">{planning.work.error} <LinkButton onclick={onplan}>Plan again</LinkButton></p>
  {:else if awaited}
    <p class="pad soft">Queued for planning.</p>
  {:else if !planning?.plans.length}
    <p class="pad"><LinkButton onclick={onplan}>Make plans</LinkButton></p>
  {/if}
  {#if rows.length}<PlanRows {rows} changed={Boolean(view?.differs.length)} />{/if}
  {#if (view?.plan ?? view?.kept) && view?.differs.length}<p class="pad differs">
      Changed from {view.kept ? view.kept.name : `the ${view.plan} plan`}: {view.differs.join(', ')}.
    </p>{/if}
  {#each recording.kept_plans as { kept, work, obstacles } (kept?.id)}
    {#if kept && underWay(work)}
      {@const now = live.progress[work?.id ?? ''] ?? work}
      <div class="pad">
        <Progress
          stage={`${kept.name}: ${now?.stage || 'queued for planning'}`}
          fraction={now?.fraction ?? 0}
          about={`${kept.name} for ${recording.name}`}
          oncancel={() => acting.cancel(work?.id ?? '')}
        />
      </div>
    {:else if kept && (obstacles.length || work?.error)}
      <div class="pad">
        <h3 class="outside">{kept.name} can’t meet this specification</h3>
        {#each obstacles as obstacle (obstacle.advice)}<p>{obstacle.advice}</p>{/each}
        {work?.error ?? ''}
      </div>
    {/if}
  {/each}
  <div class="pad"><SavedTreatment label="Try a saved treatment" act="Try it" onuse={tryKept} /></div>
</section>

<section aria-label="Steps">
  <div class="bar">
    <h3>Steps</h3>
    <LinkButton
      onclick={() => treating.undo()}
      disabled={!view?.undo}
      label={view?.undo ? `Undo: ${view.undo}` : 'Undo'}>Undo{view?.undo ? `: ${view.undo}` : ''}</LinkButton
    >
    <LinkButton
      onclick={() => treating.redo()}
      disabled={!view?.redo}
      label={view?.redo ? `Redo: ${view.redo}` : 'Redo'}>Redo{view?.redo ? `: ${view.redo}` : ''}</LinkButton
    >
    <LinkButton onclick={() => (saving = !saving)} disabled={!steps.length || !view?.ready}>Save treatment…</LinkButton>
  </div>
  {#if saving && view}
    <SaveTreatment
      recordingId={recording.id}
      {view}
      onclose={(made) => {
        saving = false;
        saved = made ? { id: made.id ?? '', said: `${made.name}, version ${made.revision}` } : undefined;
      }}
    />
  {/if}
  <div role="status">
    {#if saved && !saving}
      <p class="pad soft">Saved: <a href={`#/treatments/${saved.id}`}>{saved.said}</a>.</p>
    {/if}
  </div>
  {#if treating.problem}<p class="pad outside" role="alert">{treating.problem}</p>{/if}
  {#if steps.length}
    <ol bind:this={list}>
      {#each steps as step, index (step.id)}
        <StepLine
          {step}
          number={index + 1}
          count={steps.length}
          open={open === index + 1}
          landing={dragged ? landingAt(index) : undefined}
          dragged={dragged === step.id}
          onopen={() => onopen(open === index + 1 ? undefined : index + 1)}
          onset={(path, value) => treating.set(step.id, path, value)}
          onmove={(to) => move(step.id, to)}
          onturn={() => treating.turn(step.id)}
          onremove={() => remove(step.id)}
          ongrab={(event) => grab(event, step.id)}
        />
      {/each}
    </ol>
  {:else}
    <p class="pad soft">No steps yet. Use a plan or add steps; Conform plans automatically.</p>
  {/if}
  <div class="pad" bind:this={adding}><AddStep {groups} onadd={add} /></div>
</section>

<section class="run pad" aria-label="Run">
  {#if running}
    <UnderWay work={running} about={recording.name} {acting} />
  {:else}
    <Choice label="Format" value={chosen} options={formats} onchange={(to) => (container = to)} />
    <Button strong disabled={drafted && !view?.ready} onclick={run}>{again ? 'Conform again' : 'Conform'}</Button>
    {#if drafted && !view?.ready}<span class="outside">A step can't run yet; see above.</span>{/if}
  {/if}
</section>
{#if missed}
  <section class="pad missing" aria-label="What is missing">
    <h3 class="outside">{missed.own ? 'Not there yet' : 'Can’t meet this specification'}</h3>
    {#each missed.obstacles as obstacle (obstacle.advice)}<p>{obstacle.advice}</p>{/each}
    {#if missed.closing}
      {@const closing = missed.closing}
      <p>
        <b>{closing.said}</b>
        <Button onclick={() => treating.take(closing.treatment)}>Make this change</Button>
      </p>
    {/if}
  </section>
{:else if latest?.work?.error}
  <p class="pad outside" role="alert">{latest.work.error}</p>
{/if}
{#if gainWindow}
  <section class="pad" aria-label="Gain window">
    <GainWindowPicture window={gainWindow} gain={gainDb} expected={expected !== undefined} onset={setGain} />
  </section>
{/if}

<style>
  section + section {
    border-top: 1px solid var(--rule);
  }
  .pad {
    padding: var(--space-4) var(--space-5);
  }
  .bar {
    display: flex;
    gap: var(--space-6);
    align-items: baseline;
    padding: var(--space-4) var(--space-5) var(--space-2);
    font-size: var(--type-plain);
  }
  h3 {
    font-size: var(--type-plain);
    font-weight: 600;
  }
  .bar h3 {
    margin-right: auto;
  }
  ol {
    margin: 0;
    padding: 0;
  }
  .soft,
  .differs {
    color: var(--soft);
    font-size: var(--type-plain);
  }
  .outside {
    color: var(--outside);
  }
  .run {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-4) var(--space-5);
    align-items: end;
    padding-bottom: var(--space-5);
  }
  .missing {
    display: grid;
    gap: var(--space-2);
    font-size: var(--type-plain);
  }
  b {
    font-weight: 550;
  }
</style>
