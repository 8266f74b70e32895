<script lang="ts">
  // One picture of a step: its lines over an axis, the recording's own levels behind a curve, marks to drag or to add; and a table.
  import { scaleLinear, scaleLog } from 'd3-scale';
  import type { PictureMark, StepPicture } from '../lib/api';
  import { clock, number } from '../lib/format';
  import LinkButton from './LinkButton.svelte';
  interface Props {
    picture: StepPicture;
    /** Marks that are settings were dragged to places on their axes: values by their paths. */
    onset: (values: Record<string, number>) => void;
    /** A mark that is an offer was taken. */
    onadd: (entry: Record<string, unknown>) => void;
  }
  let { picture, onset, onadd }: Props = $props();

  let outer = $state(560);
  const width = $derived(Math.max(280, outer));
  const HEIGHT = 210;
  const [LEFT, RIGHT, TOP, BOTTOM] = [40, 10, 14, 26];
  const LANE = 34; // where moved gain hangs
  let tabular = $state(false);

  const all = $derived(picture.lines.flatMap((line) => line.x));
  const levels = $derived(
    picture.lines.filter((line) => line.title !== 'response').flatMap((line) => line.y.filter((y) => y !== null)),
  );
  const response = $derived(picture.lines.find((line) => line.title === 'response'));
  const domain = $derived([Math.min(...all), Math.max(...all)] as [number, number]);
  const x = $derived(
    picture.form === 'spectrum'
      ? scaleLog()
          .domain([Math.max(20, domain[0]), domain[1]])
          .range([LEFT, width - RIGHT])
          .clamp(true)
      : scaleLinear()
          .domain(domain)
          .range([LEFT, width - RIGHT])
          .clamp(true),
  );
  const range = $derived.by((): [number, number] => {
    if (picture.form === 'curve') return domain;
    const highest = Math.max(-100, ...levels);
    const top = Math.ceil((highest + 3) / 10) * 10;
    return [
      Math.max(Math.floor(Math.min(...levels, top - 30) / 10) * 10, top - (picture.form === 'time' ? 60 : 90)),
      top,
    ];
  });
  const y = $derived(
    scaleLinear()
      .domain(range)
      .range([HEIGHT - BOTTOM, TOP])
      .clamp(true),
  );
  // The response has an axis of its own: nought lies in the middle of its 48 dB.
  const dB = scaleLinear()
    .domain([-36, 12])
    .range([HEIGHT - BOTTOM, TOP])
    .clamp(true);
  const path = (line: StepPicture['lines'][number], to: (value: number) => number) =>
    line.x
      .map((at, index) => {
        const value = line.y[index];
        return value === null || value === undefined
          ? ''
          : `${index ? 'L' : 'M'}${x(at).toFixed(1)} ${to(value).toFixed(1)}`;
      })
      .join('');
  const deepest = $derived(Math.min(-3, ...(picture.moved_db ?? [])));
  const tallest = $derived(Math.max(0.001, ...(picture.bars ?? [])));
  const ticks = $derived(
    picture.form === 'spectrum'
      ? [50, 100, 200, 500, 1000, 2000, 5000, 10000].filter((hz) => hz >= domain[0] && hz < domain[1])
      : x.ticks(6),
  );
  const tick = (value: number) =>
    picture.form === 'spectrum'
      ? value < 1000
        ? String(value)
        : `${value / 1000}k`
      : picture.form === 'time' && domain[1] > 20
        ? clock(value)
        : number(value, Number.isInteger(value) ? 0 : 1);

  // Marks that are settings are dragged along their axis, or moved by keys.
  let dragged = $state<{ path: string; at: number; level: number | null }>();
  const markAt = (mark: PictureMark) => (dragged && mark.path === dragged.path ? dragged.at : mark.at);
  const rounded = (value: number, mark: PictureMark) =>
    mark.axis === 'x' && picture.form === 'spectrum'
      ? Number(value.toPrecision(value < 1000 ? 2 : 3))
      : Math.round(value * 10) / 10;
  function grab(event: PointerEvent & { currentTarget: Element }, mark: PictureMark): void {
    event.currentTarget.setPointerCapture(event.pointerId);
    dragged = { path: mark.path ?? '', at: mark.at, level: mark.level_db ?? null };
  }
  function drag(event: PointerEvent & { currentTarget: Element }, mark: PictureMark): void {
    if (!dragged) return;
    const box = (event.currentTarget as SVGGElement).ownerSVGElement?.getBoundingClientRect();
    if (!box) return;
    const value = mark.axis === 'y' ? y.invert(event.clientY - box.top) : x.invert(event.clientX - box.left);
    dragged.at = rounded(value, mark);
    if (mark.level_path) dragged.level = Math.round(dB.invert(event.clientY - box.top) * 2) / 2;
  }
  function drop(mark: PictureMark): void {
    const values: Record<string, number> = {};
    if (dragged && dragged.at !== mark.at) values[dragged.path] = dragged.at;
    if (dragged && mark.level_path && dragged.level !== null && dragged.level !== mark.level_db)
      values[mark.level_path] = dragged.level;
    if (Object.keys(values).length) onset(values);
    dragged = undefined;
  }
  function nudge(event: KeyboardEvent, mark: PictureMark): void {
    const by = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1 }[event.key];
    if (by === undefined || !mark.path) return;
    event.preventDefault();
    event.stopPropagation();
    const spectral = mark.axis === 'x' && picture.form === 'spectrum';
    if (mark.level_path && event.key.match(/Up|Down/)) onset({ [mark.level_path]: (mark.level_db ?? 0) + by * 0.5 });
    else
      onset({
        [mark.path]: rounded(spectral ? mark.at * 1.03 ** by : mark.at + by * (event.shiftKey ? 0.1 : 0.5), mark),
      });
  }
  const said = (mark: PictureMark) =>
    picture.form === 'spectrum'
      ? `${mark.title} at ${number(markAt(mark), 0)} Hz`
      : `${mark.title} ${number(markAt(mark), 1)}`;
  const rows = $derived(picture.lines.flatMap((line) => sampled(line)));
  /** A dozen values of a line, as a table has room for. */
  function sampled(line: StepPicture['lines'][number]) {
    const step = Math.max(1, Math.ceil(line.x.length / 12));
    return line.x
      .map((at, index) => ({ title: name(line), at, value: line.y[index] }))
      .filter((_, index) => index % step === 0);
  }
  const name = (line: StepPicture['lines'][number]) => (line.of === 'step' ? line.title : `${line.title} ${line.of}`);
  const named = $derived([...new Set(picture.lines.map((line) => line.title))]);
</script>

<figure bind:clientWidth={outer} data-form={picture.form}>
  <figcaption>{picture.said}</figcaption>
  <svg {width} height={HEIGHT} role="group" aria-label={picture.said}>
    {#each y.ticks(5) as level (level)}
      <line class="grid" x1={LEFT} x2={width - RIGHT} y1={y(level)} y2={y(level)} />
      <text class="scale left" x={LEFT - 6} y={y(level) + 4}>{number(level, 0)}</text>
    {/each}
    {#each ticks.filter((at) => x(at) < width - RIGHT - 34) as at (at)}<text class="scale" x={x(at)} y={HEIGHT - 9}
        >{tick(at)}</text
      >{/each}
    <text class="scale unit" x={width - RIGHT} y={HEIGHT - 9}>{picture.x_unit}</text>
    <text class="scale first" x={LEFT + 4} y={TOP - 4}>{picture.y_unit}</text>
    {#if picture.form === 'curve'}
      {#each picture.bars ?? [] as share, index (index)}
        {@const at = picture.lines[0]?.x[index] ?? 0}
        {@const tall = (share / tallest) * (HEIGHT - BOTTOM - TOP) * 0.6}
        <rect
          class="bar"
          x={x(at - 0.5)}
          width={Math.max(1, x(at + 0.5) - x(at - 0.5) - 0.5)}
          y={HEIGHT - BOTTOM - tall}
          height={tall}
        />
      {/each}
      <line class="same" x1={x(domain[0])} y1={y(domain[0])} x2={x(domain[1])} y2={y(domain[1])} />
    {/if}
    {#each picture.moved_db ?? [] as gain, index (index)}
      {#if gain < -0.05}<rect
          class="moved"
          x={LEFT + (index / (picture.moved_db?.length ?? 1)) * (width - LEFT - RIGHT)}
          width={Math.max(1, (width - LEFT - RIGHT) / (picture.moved_db?.length ?? 1))}
          y={TOP}
          height={(gain / deepest) * LANE}
        />{/if}
    {/each}
    {#each picture.lines as line (name(line))}
      {#if line !== response}<path
          class={`line ${line.of}`}
          class:second={named.indexOf(line.title) > 0}
          d={path(line, y)}
        />{/if}
    {/each}
    {#if response}
      <line class="same" x1={LEFT} x2={width - RIGHT} y1={dB(0)} y2={dB(0)} />
      <path class="line response" d={path(response, dB)} />
    {/if}
    {#each (picture.marks ?? []).filter((mark) => !mark.entry) as mark, index (mark.path || `${mark.title} ${index}`)}
      {@const at = markAt(mark)}
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <g
        class="mark"
        class:held={mark.path}
        class:across={mark.axis === 'y'}
        role={mark.path ? 'slider' : undefined}
        tabindex={mark.path ? 0 : undefined}
        aria-label={mark.path ? mark.title : undefined}
        aria-valuenow={mark.path ? at : undefined}
        aria-valuetext={mark.path ? said(mark) : undefined}
        onpointerdown={(event) => mark.path && grab(event, mark)}
        onpointermove={(event) => drag(event, mark)}
        onpointerup={() => drop(mark)}
        onkeydown={(event) => nudge(event, mark)}
      >
        {#if mark.axis === 'y'}
          <line x1={LEFT} x2={width - RIGHT} y1={y(at)} y2={y(at)} />
          <rect class="grip" x={LEFT} width={width - LEFT - RIGHT} y={y(at) - 6} height="12" />
          <text x={width - RIGHT - 4} y={y(at) - 5} text-anchor="end">{said(mark)}</text>
        {:else}
          <line x1={x(at)} x2={x(at)} y1={TOP} y2={HEIGHT - BOTTOM} />
          <rect class="grip" x={x(at) - 7} width="14" y={TOP} height={HEIGHT - BOTTOM - TOP} />
          {#if mark.level_db != null}<circle
              cx={x(at)}
              cy={dB(dragged && dragged.path === mark.path ? (dragged.level ?? 0) : mark.level_db)}
              r="5"
            />{/if}
          <text
            x={x(at) + (x(at) > width - 130 ? -5 : 5)}
            y={TOP + 11 + 13 * index}
            text-anchor={x(at) > width - 130 ? 'end' : 'start'}>{said(mark)}</text
          >
        {/if}
      </g>
    {/each}
  </svg>
  <p class="legend">
    {#each picture.lines as line (name(line))}<span
        ><svg width="22" height="8" aria-hidden="true"
          ><path
            class={`line ${line === response ? 'response' : line.of}`}
            class:second={line !== response && named.indexOf(line.title) > 0}
            d="M1 4h20"
          /></svg
        >
        {name(line)}</span
      >{/each}
    {#if picture.moved_db?.length}<span><i class="moved"></i> gain moved, to {number(deepest, 1)} dB</span>{/if}
    <LinkButton pressed={tabular} onclick={() => (tabular = !tabular)}>{tabular ? 'Hide table' : 'Table'}</LinkButton>
  </p>
  {#each (picture.marks ?? []).filter((mark) => mark.entry) as mark (mark.at)}
    <p class="offer">
      {mark.title} at {number(mark.at, 0)}
      {picture.x_unit}
      <LinkButton onclick={() => onadd(mark.entry ?? {})}>Cut it</LinkButton>
    </p>
  {/each}
  {#if tabular}
    <table>
      <thead><tr><th scope="col">Line</th><th scope="col">{picture.x_unit}</th><th scope="col">Level</th></tr></thead>
      <tbody>
        {#each picture.marks ?? [] as mark, index (index)}<tr
            ><th scope="row">{mark.title}</th><td>{number(mark.at, 1)}</td><td></td></tr
          >{/each}
        {#each rows as row, index (index)}<tr
            ><th scope="row">{row.title}</th><td>{number(row.at, 1)}</td><td
              >{row.value == null ? '–' : number(row.value, 1)}</td
            ></tr
          >{/each}
      </tbody>
    </table>
  {/if}
</figure>

<style>
  figure {
    margin: 0;
    min-width: 0;
    overflow-x: hidden;
  }
  figcaption {
    font-size: var(--type-plain);
    padding-bottom: var(--space-2);
  }
  svg {
    display: block;
  }
  .grid {
    stroke: var(--rule);
    stroke-width: 0.7;
  }
  .same {
    stroke: var(--soft);
    stroke-width: 0.8;
    stroke-dasharray: 1 3;
  }
  .scale {
    font: var(--type-axis) var(--figures);
    fill: var(--soft);
    text-anchor: middle;
  }
  .scale.left,
  .scale.unit {
    text-anchor: end;
  }
  .scale.first {
    text-anchor: start;
  }
  .bar {
    fill: color-mix(in srgb, var(--ink) 22%, transparent);
  }
  .line {
    fill: none;
    stroke: var(--ink);
    stroke-width: 1.4;
    vector-effect: non-scaling-stroke;
  }
  .line.before {
    stroke: color-mix(in srgb, var(--ink) 45%, transparent);
    stroke-width: 1.1;
  }
  .line.after {
    stroke-dasharray: 5 2.5;
  }
  .line.second {
    stroke: var(--act);
  }
  .line.before.second {
    stroke: color-mix(in srgb, var(--act) 50%, transparent);
  }
  .line.response {
    stroke: var(--near);
    stroke-width: 1.8;
  }
  rect.moved,
  i.moved {
    fill: var(--act);
    background: var(--act);
    opacity: 0.4;
  }
  i.moved {
    display: inline-block;
    width: 12px;
    height: 8px;
  }
  .mark line {
    stroke: var(--soft);
    stroke-width: 1;
    stroke-dasharray: 2 2;
  }
  .mark circle {
    fill: var(--sheet);
    stroke: var(--act);
    stroke-width: 2;
  }
  .mark text {
    font: var(--type-fine) var(--words);
    fill: var(--soft);
  }
  .mark.held line {
    stroke: var(--act);
    stroke-width: 1.6;
    stroke-dasharray: none;
  }
  .mark.held text {
    fill: var(--act);
  }
  .mark.held {
    cursor: ew-resize;
    touch-action: none;
  }
  .mark.held.across {
    cursor: ns-resize;
  }
  .grip {
    fill: transparent;
  }
  .legend {
    display: flex;
    flex-wrap: wrap;
    gap: var(--space-1) var(--space-5);
    font-size: var(--type-small);
    color: var(--soft);
  }
  .legend span {
    display: inline-flex;
    gap: var(--space-2);
    align-items: center;
  }
  .offer {
    font-size: var(--type-plain);
  }
  table {
    border-collapse: collapse;
    font-size: var(--type-small);
    margin-top: var(--space-3);
  }
  th {
    font-weight: 400;
    text-align: left;
    padding: 1px var(--space-6) 1px 0;
  }
  td {
    font-family: var(--figures);
    text-align: right;
    padding: 1px var(--space-6) 1px 0;
  }
</style>
