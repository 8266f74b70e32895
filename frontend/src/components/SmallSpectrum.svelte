<script lang="ts">
  // The tone of a recording's voice and the colour of its room, each against the middle of those it is compared with.
  import type { Curve } from '../lib/api';
  import { number } from '../lib/format';
  interface Props {
    name: string;
    tone: Curve | null;
    room: Curve | null;
    bands: { tone: number[]; room: number[] };
    apart: boolean;
    pointed: boolean;
    onpoint: (on: boolean) => void;
  }
  let { name, tone, room, bands, apart, pointed, onpoint }: Props = $props();
  const [WIDE, HEIGHT, RANGE_DB] = [112, 52, 12];
  const [FIRST_HZ, LAST_HZ] = [90, 11_000];
  const x = (hz: number) => (WIDE * Math.log(hz / FIRST_HZ)) / Math.log(LAST_HZ / FIRST_HZ);
  const y = (db: number) => HEIGHT / 2 - (Math.max(-RANGE_DB, Math.min(RANGE_DB, db)) / RANGE_DB) * (HEIGHT / 2 - 2);
  const line = (curve: Curve | null, hz: number[]) =>
    curve ? `M${curve.db.map((db, at) => `${x(hz[at] ?? 1).toFixed(1)} ${y(db).toFixed(1)}`).join('L')}` : '';
  const said = $derived(
    [
      name,
      tone ? `tone of the voice ${number(tone.apart_db, 1)} dB from the average` : 'no voice',
      room ? `colour of the room ${number(room.apart_db, 1)} dB from the average` : 'no room tone',
    ].join('; '),
  );
</script>

<figure class:apart class:pointed onpointerenter={() => onpoint(true)} onpointerleave={() => onpoint(false)}>
  <svg width={WIDE} height={HEIGHT} role="img" aria-label={said}>
    <line x1="0" x2={WIDE} y1={HEIGHT / 2} y2={HEIGHT / 2} />
    {#each [1_000] as hz (hz)}<line x1={x(hz)} x2={x(hz)} y1="0" y2={HEIGHT} />{/each}
    <path class="room" d={line(room, bands.room)} />
    <path class="tone" d={line(tone, bands.tone)} />
  </svg>
  <figcaption>{name}</figcaption>
</figure>

<style>
  figure {
    margin: 0;
    width: 114px;
    border: 1px solid transparent;
  }
  figure.pointed {
    border-color: var(--act);
  }
  svg {
    display: block;
    background: color-mix(in srgb, var(--paper) 60%, var(--sheet));
  }
  line {
    stroke: var(--rule);
  }
  path {
    fill: none;
    stroke-width: 1.4;
  }
  .tone {
    stroke: var(--ink);
  }
  .room {
    stroke: var(--act);
  }
  figcaption {
    font-size: var(--type-fine);
    color: var(--soft);
    overflow: hidden;
    white-space: nowrap;
    text-overflow: ellipsis;
  }
  .apart figcaption {
    color: var(--outside);
  }
</style>
