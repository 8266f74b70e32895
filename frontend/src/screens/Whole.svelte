<script lang="ts">
  // A whole production before it runs: what will be done to each recording, how alike they will be, and what will still be missed.
  import Across from '../components/Across.svelte';
  import { createQuery } from '@tanstack/svelte-query';
  import { push, replace, router } from 'svelte-spa-router';
  import BracketMark from '../components/BracketMark.svelte';
  import BoundsFields from '../components/BoundsFields.svelte';
  import Button from '../components/Button.svelte';
  import Choice from '../components/Choice.svelte';
  import LinkButton from '../components/LinkButton.svelte';
  import SoundOfAll from '../components/SoundOfAll.svelte';
  import UnderWay from '../components/UnderWay.svelte';
  import { Acting } from '../lib/acting.svelte';
  import type { ForecastRow, Format } from '../lib/api';
  import { asked, PLANS, read, written, type Approach } from '../lib/approach';
  import { defaults, STANDARD, type Usual } from '../lib/defaults';
  import { counted, exact, number, tone } from '../lib/format';
  import { underWay } from '../lib/works';
  import * as productions from '../lib/server/productions';
  import * as treatments from '../lib/server/treatments';
  import Problem from '../components/Problem.svelte';

  let { params }: { params: { id: string } } = $props();
  const acting = new Acting();
  const sheet = createQuery(() => productions.sheet(params.id));
  const kept = createQuery(() => treatments.all());
  const set = defaults();
  const usual = $derived<Usual>(set.data ?? { preference: 'balanced', bounds: STANDARD });
  const approach = $derived(read(router.querystring, usual));
  const change = (to: Partial<Approach>) => {
    const query = written({ ...approach, ...to }, usual);
    void replace(`/productions/${params.id}/whole${query ? `?${query}` : ''}`);
  };
  const ways = $derived([...PLANS, ...(kept.data ?? []).map((one) => [`:${one.id}`, one.name] as const)]);
  const treatment = $derived(kept.data?.find((one) => `:${one.id}` === approach.by));
  const everyone = $derived(sheet.data?.entries ?? []);
  const included = $derived(everyone.map((row) => row.id).filter((id) => !approach.without.includes(id)));
  const body = $derived(asked(approach, included, treatment?.lacks_reference ?? false, usual));
  const forecast = createQuery(() => ({
    ...productions.forecast(params.id, body),
    enabled: included.length > 0 && set.data !== undefined && (kept.data !== undefined || !approach.by.startsWith(':')),
  }));
  const found = $derived(forecast.data);
  /** Whether what is shown is of what is chosen: until it is, nothing of it can be run. */
  const fresh = $derived(!forecast.isPlaceholderData);
  const rows = $derived(new Map((found?.rows ?? []).map((row) => [row.id, row])));
  const formats = $derived(
    (sheet.data?.formats ?? []).map(
      ({ name, title }) => [name, name === '' ? `${title}, as required` : title] as [Format['name'], string],
    ),
  );
  const likes = $derived([
    ['', 'the average of all'] as const,
    ...everyone.filter((row) => included.includes(row.id)).map((row) => [row.id, row.name] as const),
  ]);
  const planned = $derived((found?.rows ?? []).filter((row) => row.plan ?? row.obstacles.length).length);
  const touch = $derived.by(() => {
    const all = (found?.rows ?? []).flatMap((row) => (row.plan ? [row.plan.touch.touch ?? 0] : []));
    return all.length ? all.reduce((sum, one) => sum + one, 0) / all.length : undefined;
  });
  let pointed = $state<string>();
  let wide = $state(0);
  let bounding = $state(false);
  const unusual = $derived(JSON.stringify(approach.bounds) !== JSON.stringify(usual.bounds));

  const steps = (row: ForecastRow) =>
    row.plan?.steps.map((step) => step.reading.title.toLowerCase()).join(', ') || 'only conversion';
  const run = () =>
    acting.attempt(async () => {
      await productions.conform(params.id, body);
      await push(`/productions/${params.id}`);
    });
  const cancel = () => acting.attempt(() => productions.cancel(params.id));
  const again = () => acting.attempt(() => productions.planAgain(params.id, body));
  /** Whether there is anything whose planning failed or was cancelled. */
  const stopped = $derived(
    found?.rows.some((row) => row.work && ['failed', 'cancelled'].includes(row.work.state) && !row.plan),
  );
  const figure = (value: number | null) => (value === null ? '–' : number(value, 1));
</script>

{#snippet moved(now: number | null, then: number | null)}
  {figure(now)}{#if then !== null}<span class="to">→</span><b class="expected">{figure(then)}</b>{/if}
{/snippet}

<svelte:head><title>Conform {sheet.data?.name ?? ''} · Ispettore</title></svelte:head>
<main>
  {#if sheet.isError}
    <Problem query={sheet} />
  {:else if sheet.data}
    <p class="crumb"><a href={`#/productions/${params.id}`}>{sheet.data.name}</a></p>
    <div class="top">
      <div>
        <h1>Conform the whole production</h1>
        <p class="soft">{sheet.data.specification.name}. Nothing runs until you start it.</p>
      </div>
      <div class="acts">
        {#if found && !found.done}<Button onclick={cancel}>Cancel planning</Button>
        {:else if stopped}<Button onclick={again}>Plan the rest</Button>{/if}
        <Button strong disabled={!fresh || !found?.done || !found.will_run} onclick={run}
          >Conform {counted(found?.will_run ?? 0, 'recording')}</Button
        >
      </div>
    </div>
    <div class="choices" role="group" aria-label="How to conform">
      <Choice
        label="Sound"
        value={approach.oneSound ? 'one' : 'own'}
        options={[
          ['one', 'One sound for all'],
          ['own', 'Each on its own'],
        ]}
        onchange={(to) => change({ oneSound: to === 'one' })}
      />
      <Choice label="Treatment" value={approach.by} options={ways} onchange={(by) => change({ by })} />
      {#if approach.oneSound}
        <Choice label="Sound like" value={approach.like} options={likes} onchange={(like) => change({ like })} />
        <label class="check">
          <input
            type="checkbox"
            checked={approach.tone}
            onchange={(event) => change({ tone: event.currentTarget.checked })}
          />
          Match tone
        </label>
      {/if}
      <Choice
        label="Format"
        value={approach.container}
        options={formats}
        onchange={(container) => change({ container })}
      />
      <span class="check"
        ><LinkButton onclick={() => (bounding = !bounding)}>Bounds{unusual ? ', changed' : ''}</LinkButton></span
      >
    </div>
    {#if treatment?.lacks_reference}
      <label class="check line">
        <input
          type="checkbox"
          checked={approach.reference}
          onchange={(event) => change({ reference: event.currentTarget.checked })}
        />
        {treatment.name} has thresholds and no reference level before them. Bring every recording to {exact(
          treatment.voice_dbfs ?? -24,
        )} dBFS of active speech first
      </label>
    {/if}
    {#if bounding}
      <div class="bounds" role="group" aria-label="Bounds">
        <BoundsFields bounds={approach.bounds} onchange={(bounds) => change({ bounds })} />
        {#if unusual}<LinkButton onclick={() => change({ bounds: usual.bounds })}>Restore defaults</LinkButton>{/if}
      </div>
    {/if}
    <Problem {acting} />
    <Problem query={forecast} />
    {#if found}
      <section aria-label="Voice and room in every recording" class="picture" bind:clientWidth={wide}>
        <div class="said">
          <p aria-live="polite">
            {#if !fresh}Planning again.{:else if !found.done}{planned} of {counted(found.rows.length, 'recording')} planned.{:else}
              {counted(found.will_run, 'recording')} will conform{found.settled
                ? `, ${found.settled} already up to date`
                : ''}{found.can_not ? `, ${found.can_not} can’t` : ''}.{/if}
            {found.aim}
          </p>
          <dl>
            {#each found.spreads as spread (spread.title)}
              <div>
                <dt>{spread.title}, spread</dt>
                <dd>
                  {@render moved(spread.before, spread.after)} <span class="soft">dB</span>
                </dd>
              </div>
            {/each}
            {#if touch !== undefined}<div>
                <dt>Touch, average</dt>
                <dd><b class="expected">{number(touch, 0)}</b></dd>
              </div>{/if}
          </dl>
        </div>
        {#if wide}<SoundOfAll rows={found.rows} width={wide - 2} onpoint={(id) => (pointed = id)} />{/if}
        <p class="key" aria-hidden="true">
          <span class="now"></span> now <span class="then voice"></span> voice, expected
          <span class="then room"></span> room, expected
        </p>
      </section>
    {/if}
    <Across label="Recordings, scrolls sideways">
      <table>
        <caption class="visually-hidden">What will be done to each recording</caption>
        <thead>
          <tr>
            <th scope="col">Recording</th>
            <th scope="col">What will be done</th>
            <th scope="col">Touch</th>
            <th scope="col">Limits, expected</th>
            <th scope="col">Voice</th>
            <th scope="col">Room</th>
            {#if approach.oneSound}<th scope="col">Tone difference</th>{/if}
          </tr>
        </thead>
        <tbody>
          {#each everyone as recording (recording.id)}
            {@const row = rows.get(recording.id)}
            {@const inside = included.includes(recording.id)}
            <tr class:out={!inside} class:pointed={pointed === recording.id} data-forecast={recording.name}>
              <th scope="row">
                <label>
                  <input
                    type="checkbox"
                    aria-label={`Include ${recording.name}`}
                    checked={inside}
                    onchange={(event) =>
                      change({
                        without: event.currentTarget.checked
                          ? approach.without.filter((id) => id !== recording.id)
                          : [...approach.without, recording.id],
                      })}
                  />
                  <a href={`#/recordings/${recording.id}`}>{recording.name}</a>
                </label>
              </th>
              {#if !inside}
                <td colspan="6" class="soft">left out</td>
              {:else if !row}
                <td colspan="6"></td>
              {:else if !row.measured}
                <td colspan="6" class="soft">not measured yet</td>
              {:else if row.obstacles.length}
                <td colspan="6" class="outside"
                  >{#each row.obstacles as obstacle (obstacle.advice)}<p>{obstacle.advice}</p>{/each}</td
                >
              {:else if row.given}
                <td colspan="6" class="soft">
                  Runs exactly as saved; the result is measured afterwards.{row.settled ? ' Already up to date.' : ''}
                </td>
              {:else if row.plan}
                <td class="steps">
                  {steps(row)}{#if row.settled}<span class="soft">; already up to date</span>{/if}
                  {#each row.remarks as remark (remark)}<p class="near">{remark}</p>{/each}
                </td>
                <td class="figure">{number(row.plan.touch.touch ?? 0, 0)}</td>
                <td
                  ><span class="marks"
                    >{#each row.plan.limits as limit (limit.quantity)}<span title={limit.title}
                        ><BracketMark position={limit.position} tone={tone(limit)} size={12} /></span
                      >{/each}</span
                  ></td
                >
                <td class="figure">{@render moved(row.speech_dbfs, row.speech_expected_dbfs)}</td>
                <td class="figure">{@render moved(row.room_dbfs, row.room_expected_dbfs)}</td>
                {#if approach.oneSound}
                  <td class="figure"
                    >{@render moved(
                      row.tone_apart_db,
                      row.tone_expected_db === row.tone_apart_db ? null : row.tone_expected_db,
                    )}</td
                  >
                {/if}
              {:else}
                {@const work = underWay(row.work)}
                <td colspan="6">
                  {#if work}
                    <UnderWay {work} about={row.name} waiting="Queued for planning" />
                  {:else}<span class="soft">{row.work?.error ?? row.work?.state ?? ''}</span>{/if}
                </td>
              {/if}
            </tr>
          {/each}
        </tbody>
      </table>
    </Across>
  {/if}
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
  .crumb {
    font-size: var(--type-plain);
  }
  .top,
  .said {
    display: flex;
    justify-content: space-between;
    align-items: start;
    gap: var(--space-7);
  }
  .top {
    flex-wrap: wrap;
    flex-wrap: wrap;
    margin: var(--space-1) 0 var(--space-4);
  }
  .acts,
  .choices {
    display: flex;
    gap: var(--space-5);
    align-items: end;
    flex-wrap: wrap;
  }
  .check {
    display: flex;
    gap: var(--space-3);
    align-items: center;
    padding-bottom: var(--space-3);
    font-size: var(--type-plain);
  }
  .line {
    padding: var(--space-4) 0 0;
  }
  .bounds {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-4) var(--space-5);
    align-items: end;
    margin-top: var(--space-4);
  }
  .picture {
    margin: var(--space-5) 0;
    background: var(--sheet);
    border: 1px solid var(--rule);
  }
  .said {
    padding: var(--space-4) var(--space-5) var(--space-2);
    font-size: var(--type-plain);
  }
  .said p {
    max-width: 62ch;
  }
  dl {
    display: flex;
    gap: var(--space-7);
    margin: 0;
    white-space: nowrap;
  }
  dt {
    font-size: var(--type-fine);
    color: var(--soft);
  }
  dd {
    margin: 0;
    font-family: var(--figures);
    font-size: var(--type-plain);
  }
  .key {
    display: flex;
    gap: var(--space-4);
    align-items: center;
    padding: var(--space-1) var(--space-5) var(--space-4);
    font-size: var(--type-fine);
    color: var(--soft);
  }
  .key span {
    width: 18px;
    border-top: 3px solid var(--ink);
  }
  .key .now {
    opacity: 0.38;
  }
  .key .then {
    border-top-style: dashed;
    margin-left: var(--space-5);
  }
  .key .voice {
    border-color: var(--act);
  }
  .key .room {
    border-color: var(--inside);
  }
  table {
    width: 100%;
    border-collapse: collapse;
    background: var(--sheet);
    border: 1px solid var(--rule);
  }
  th,
  td {
    text-align: left;
    padding: var(--space-3) var(--space-4);
    border-bottom: 1px solid var(--rule);
    vertical-align: top;
    font-weight: 400;
  }
  thead th {
    font-size: var(--type-small);
    font-weight: 550;
  }
  th input {
    margin: 0 var(--space-2) 0 0;
    vertical-align: -1px;
  }
  tbody th {
    white-space: nowrap;
  }
  .steps {
    font-size: var(--type-plain);
    max-width: 380px;
  }
  .figure {
    font-family: var(--figures);
    font-size: var(--type-small);
    white-space: nowrap;
  }
  .marks {
    display: flex;
    gap: var(--space-2);
    padding-top: var(--space-2);
  }
  b {
    font-weight: 500;
  }
  .to {
    padding: 0 var(--space-3);
    color: var(--soft);
  }
  .expected {
    border-bottom: 1.5px dashed var(--soft);
  }
  .out {
    background: var(--paper);
  }
  .pointed {
    background: var(--act-pale);
  }
  .near {
    color: var(--near);
  }
  .outside {
    color: var(--outside);
  }
</style>
