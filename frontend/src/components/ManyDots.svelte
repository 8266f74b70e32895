<script lang="ts">
  // One quantity over all recordings of a production, in their order: a dot each about the middle of all.
  import type { Compared } from '../lib/api';
  import { number } from '../lib/format';
  interface Props {
    measure: Compared;
    names: string[];
    /** The place that is pointed at in any picture beside it. */
    pointed: number | undefined;
    onpoint: (place: number | undefined) => void;
  }
  let { measure, names, pointed, onpoint }: Props = $props();
  const HEIGHT = 64;
  const EDGE = 10;
  let wide = $state(300);
  const known = $derived(measure.values.filter((value) => value !== null));
  const low = $derived(Math.min(...known));
  const high = $derived(Math.max(...known));
  const x = (place: number) => EDGE + (place * (wide - 2 * EDGE)) / Math.max(measure.values.length - 1, 1);
  const y = (value: number) =>
    high > low ? HEIGHT - EDGE - ((value - low) / (high - low)) * (HEIGHT - 2 * EDGE) : HEIGHT / 2;
  const told = $derived.by(() => {
    if (pointed === undefined) return '';
    const value = measure.values[pointed];
    return value === null || value === undefined ? '–' : `${number(value, measure.decimals)} ${measure.unit}`;
  });
  function point(event: PointerEvent & { currentTarget: SVGSVGElement }) {
    const box = event.currentTarget.getBoundingClientRect();
    const along = (event.clientX - box.left - EDGE) / Math.max(wide - 2 * EDGE, 1);
    const place = Math.round(along * (measure.values.length - 1));
    onpoint(Math.max(0, Math.min(place, measure.values.length - 1)));
  }
  const said = $derived(
    measure.middle === null
      ? `${measure.title}: not measured`
      : `${measure.title}: ${number(measure.middle, measure.decimals)} ${measure.unit} median, ` +
          `${number(measure.spread ?? 0, measure.decimals)} ${measure.difference_unit} from lowest to highest; ` +
          (measure.apart.length ? `outliers: ${measure.apart.map((place) => names[place]).join(', ')}` : 'no outliers'),
  );
</script>

<figure bind:clientWidth={wide}>
  <figcaption>
    <span>{measure.title}</span>
    <span class="figure"
      >{#if pointed !== undefined}{told}{:else if measure.middle !== null}{number(measure.middle, measure.decimals)}
        <span class="soft">{measure.unit}, spread {number(measure.spread ?? 0, measure.decimals)}</span>{/if}</span
    >
  </figcaption>
  <svg
    width={wide}
    height={HEIGHT}
    role="img"
    aria-label={said}
    onpointermove={point}
    onpointerleave={() => onpoint(undefined)}
  >
    {#if measure.middle !== null}<line
        class="middle"
        x1="0"
        x2={wide}
        y1={y(measure.middle)}
        y2={y(measure.middle)}
      />{/if}
    {#if pointed !== undefined}<line class="pointed" x1={x(pointed)} x2={x(pointed)} y1="0" y2={HEIGHT} />{/if}
    {#each measure.values as value, place (place)}
      {#if value !== null}
        {#if measure.middle !== null}<line
            class="off"
            class:apart={measure.apart.includes(place)}
            x1={x(place)}
            x2={x(place)}
            y1={y(measure.middle)}
            y2={y(value)}
          />{/if}
        <circle
          class:apart={measure.apart.includes(place)}
          cx={x(place)}
          cy={y(value)}
          r={measure.values.length > 60 ? 1.6 : 2.8}
        />
      {/if}
    {/each}
  </svg>
</figure>

<style>
  figure {
    margin: 0;
    min-width: 0;
  }
  figcaption {
    display: flex;
    justify-content: space-between;
    font-size: var(--type-small);
  }
  .figure {
    font-family: var(--figures);
    font-size: var(--type-small);
  }
  svg {
    display: block;
    background: color-mix(in srgb, var(--paper) 60%, var(--sheet));
  }
  .middle {
    stroke: var(--soft);
    stroke-width: 1;
  }
  .pointed {
    stroke: var(--act);
    stroke-width: 1;
  }
  .off {
    stroke: var(--rule);
    stroke-width: 1.5;
  }
  circle {
    fill: var(--ink);
  }
  circle.apart {
    fill: var(--outside);
  }
  .off.apart {
    stroke: var(--outside);
  }
</style>
