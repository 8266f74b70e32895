<script lang="ts">
  // The recordings of a production against one another: which stand apart and why, every measure of all, spectra, and seams to hear.
  import { createQuery } from '@tanstack/svelte-query';
  import { replace, router } from 'svelte-spa-router';
  import Choice from '../components/Choice.svelte';
  import FigureTable from '../components/FigureTable.svelte';
  import LinkButton from '../components/LinkButton.svelte';
  import ManyDots from '../components/ManyDots.svelte';
  import ScreenHead from '../components/ScreenHead.svelte';
  import SmallSpectrum from '../components/SmallSpectrum.svelte';
  import type { Chapter } from '../lib/api';
  import { counted, number } from '../lib/format';
  import { Seams } from '../lib/seams.svelte';
  import * as productions from '../lib/server/productions';
  import Problem from '../components/Problem.svelte';

  let { params }: { params: { id: string } } = $props();
  const MOST_SPECTRA = 60;
  const made = $derived(new URLSearchParams(router.querystring ?? '').get('made') === 'yes');
  const query = createQuery(() => productions.consistency(params.id, made));
  const view = $derived(query.data);
  const found = $derived(view?.found);
  const chapters = $derived((view?.chapters ?? []) as Chapter[]);
  const names = $derived(chapters.map((chapter) => chapter.name));
  const reasons = $derived(new Map((found?.apart ?? []).map((one) => [one.index, one.reasons])));
  const voices = $derived(new Set((found?.voices ?? []).filter((voice) => voice !== null)).size);
  const drawn = $derived(
    chapters.length <= MOST_SPECTRA
      ? chapters.map((_, place) => place)
      : chapters.map((_, place) => place).filter((place) => reasons.has(place)),
  );
  let pointed = $state<number>();
  const seams = new Seams();
  $effect(() => () => seams.stop());
  const step = (quantity: string, at: number) => {
    const values = found?.measures.find((one) => one.quantity === quantity)?.values ?? [];
    const [one, other] = [values[at], values[at + 1]];
    if (one == null || other == null) return '–';
    return `${other - one > 0 ? '+' : ''}${number(other - one, 1)}`;
  };
  const report = (form: string) => `/api/productions/${params.id}/consistency.${form}${made ? '?made=true' : ''}`;
</script>

<svelte:head><title>Consistency of {view?.name ?? ''} · Ispettore</title></svelte:head>
<main>
  {#if query.isError}
    <Problem {query} />
  {:else if view && found}
    <ScreenHead title="Consistency">
      {#snippet way()}<a href={`#/productions/${params.id}`}>{view.name}</a>{/snippet}
      {#snippet told()}{counted(chapters.length, 'recording')}{voices > 1 ? ` by ${voices} voices` : ''}.
        {found.apart.length
          ? `${found.apart.length} ${found.apart.length === 1 ? 'outlier' : 'outliers'}.`
          : chapters.length > 3
            ? 'No outliers.'
            : 'Too few to tell outliers.'}
        {view.missing.length ? `Not ${view.made ? 'made' : 'measured'}: ${view.missing.join(', ')}.` : ''}{/snippet}
      {#snippet acts()}<Choice
          label="Compare"
          value={made ? 'made' : 'came'}
          options={[
            ['came', 'the recordings'],
            ['made', `the processed files (${view.files})`],
          ]}
          onchange={(to) => void replace(`/productions/${params.id}/consistency${to === 'made' ? '?made=yes' : ''}`)}
        />
        <span class="reports"
          >Download report: <a href={report('pdf')} download>PDF</a>, <a href={report('html')} download>HTML</a>,
          <a href={report('csv')} download>CSV</a></span
        >{/snippet}
    </ScreenHead>
    {#if found.apart.length}
      <section aria-label="Outliers">
        <h2>Outliers</h2>
        <ul class="apart">
          {#each found.apart as one (one.index)}
            {@const chapter = chapters[one.index]}
            <li
              class:pointed={pointed === one.index}
              onpointerenter={() => (pointed = one.index)}
              onpointerleave={() => (pointed = undefined)}
            >
              <a href={`#/recordings/${chapter?.id ?? ''}`}>{chapter?.name ?? ''}</a>
              <span>{one.reasons.join('; ')}</span>
            </li>
          {/each}
        </ul>
      </section>
    {/if}
    {#if chapters.length}
      <section aria-label="All measurements">
        <h2>
          In order{pointed === undefined ? '' : `: ${names[pointed] ?? ''}`}
        </h2>
        <div class="measures">
          {#each found.measures as measure (measure.quantity)}
            <ManyDots {measure} {names} {pointed} onpoint={(place) => (pointed = place)} />
          {/each}
        </div>
      </section>
      <section aria-label="Spectra">
        <h2>
          Tone of the voice <span class="key tone"></span> compared with its average, and colour of the room
          <span class="key room"></span>
          compared with the average of all, 100 Hz to 10 kHz, ±12 dB{drawn.length < chapters.length
            ? '; outliers only'
            : ''}
        </h2>
        <div class="spectra">
          {#each drawn as place (chapters[place]?.id)}
            <SmallSpectrum
              name={names[place] ?? ''}
              tone={found.tones[place] ?? null}
              room={found.rooms[place] ?? null}
              bands={{ tone: found.tone_bands_hz ?? [], room: found.room_bands_hz ?? [] }}
              apart={reasons.has(place)}
              pointed={pointed === place}
              onpoint={(on) => (pointed = on ? place : undefined)}
            />
          {/each}
        </div>
      </section>
    {/if}
    {#if chapters.length > 1}
      <section aria-label="Joins">
        <h2>
          Joins: the last five seconds, then the first five of the next
          <label><input type="checkbox" bind:checked={seams.matched} /> Match the level of the voice</label>
        </h2>
        {#if seams.problem}<p class="problem" role="alert">{seams.problem}</p>{/if}
        <FigureTable>
          <thead>
            <tr>
              <th scope="col">Join</th><th scope="col">Voice</th><th scope="col">Room tone</th>
              <th scope="col"><span class="visually-hidden">Listen</span></th>
            </tr>
          </thead>
          <tbody>
            {#each chapters.slice(1) as next, at (next.id)}
              <tr class:heard={seams.playing === at}>
                <th scope="row">{names[at]} <span class="soft">then</span> {next.name}</th>
                <td>{step('active_speech_level_dbfs', at)} <span class="soft">dB</span></td>
                <td>{step('noise_floor_dbfs', at)} <span class="soft">dB</span></td>
                <td
                  ><LinkButton onclick={() => (seams.playing === at ? seams.stop() : void seams.play(chapters, at))}
                    >{seams.playing === at ? 'Stop' : 'Play'}<span class="visually-hidden"
                      >&#32;the join of {names[at]} and {next.name}</span
                    ></LinkButton
                  ></td
                >
              </tr>
            {/each}
          </tbody>
        </FigureTable>
      </section>
    {/if}
  {/if}
</main>

<style>
  main {
    padding: var(--space-6) var(--space-7) var(--space-8);
  }
  .reports {
    padding-bottom: var(--space-3);
    font-size: var(--type-plain);
    color: var(--soft);
  }
  section {
    background: var(--sheet);
    border: 1px solid var(--rule);
    padding: var(--space-4) var(--space-5) var(--space-5);
    margin-bottom: var(--space-5);
  }
  h2 {
    font-size: var(--type-small);
    font-weight: 550;
    margin-bottom: var(--space-3);
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  .apart li {
    display: grid;
    grid-template-columns: minmax(150px, 240px) 1fr;
    gap: var(--space-5);
    padding: var(--space-2) 0;
    font-size: var(--type-plain);
  }
  .apart span {
    color: var(--outside);
  }
  li.pointed,
  .heard {
    background: var(--act-pale);
  }
  .measures {
    display: grid;
    grid-template-columns: repeat(3, minmax(0, 1fr));
    gap: var(--space-5) var(--space-6);
  }
  .spectra {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-3);
  }
  .key {
    display: inline-block;
    width: 16px;
    height: 0;
    border-top: 2px solid var(--ink);
    vertical-align: 3px;
  }
  .key.room {
    border-color: var(--act);
  }
  h2 label {
    font-weight: 400;
    margin-left: var(--space-6);
  }
  td {
    font-family: var(--figures);
    font-size: var(--type-small);
  }
  .problem {
    color: var(--outside);
  }
  @media (max-width: 900px) {
    .measures {
      grid-template-columns: minmax(0, 1fr);
    }
  }
</style>
