// Where everything stands in the ribbon's picture: the frame, times and levels in pixels, places with their numbers, and what is said.
import { scaleLinear, type ScaleLinear } from 'd3-scale';
import { clock, number } from './format';
import { amplitude, type Column } from './levels';
import type { Place } from './places';

export const HEIGHT = 222;
/** Where the numbers of the places stand. */
const LANE = 17;
export const LEFT = 44;
export const BOTTOM = 22;
export const TOP = 6;
export const FLOOR = HEIGHT - BOTTOM - LANE;
const NARROW = 560;
const LEAST_WIDTH = 200;

/** A level's place from above, in pixels. */
export const y = scaleLinear().domain([0, -80]).range([TOP, FLOOR]);

/** The picture across: how wide it and the plot are, where that ends, and a time's place. */
export interface Frame {
  width: number;
  right: number;
  plot: number;
  /** On a narrow screen the limits' names stand in the picture. */
  narrow: boolean;
  x: ScaleLinear<number, number>;
  start: number;
  end: number;
}

export function frameOf(outer: number, { start, end }: { start: number; end: number }): Frame {
  const width = Math.max(outer, LEAST_WIDTH);
  const narrow = width < NARROW;
  const right = width - (narrow ? 8 : 132);
  return { width, right, plot: right - LEFT, narrow, x: scaleLinear([start, end], [LEFT, right]), start, end };
}

/** A span's place and width, as far as it lies in the plot; never thinner than `least`. Nothing where it lies outside. */
export function across(frame: Frame, from: number, to: number, least = 1): { x: number; width: number } | undefined {
  if (to < frame.start || from > frame.end) return undefined;
  const x = Math.max(LEFT, frame.x(from));
  return { x, width: Math.max(least, Math.min(frame.right, frame.x(to)) - x) };
}

/** The time at a place of the picture, inside the plot. */
export const timeAt = (frame: Frame, left: number): number =>
  frame.x.invert(Math.max(LEFT, Math.min(left, frame.right)));

/** A place on the ribbon; a number is only written where it does not cover the one before. */
export type Pin = Place & { at: number; numbered: boolean };

export function pinsOf(places: Place[], frame: Frame): Pin[] {
  let free = -Infinity;
  return places
    .filter((place) => !place.whole && place.end_s >= frame.start && place.start_s <= frame.end)
    .sort((one, other) => one.number - other.number)
    .map((place) => {
      const at = frame.x((place.start_s + place.end_s) / 2);
      const numbered = at - free > 8 + 6 * String(place.number).length;
      if (numbered) free = at;
      return { ...place, at, numbered };
    });
}

const REACH = 9;

/** The place whose number or stroke in the lane below is pointed at. */
export function pinAt(pins: Pin[], frame: Frame, left: number, top: number): Pin | undefined {
  if (top < FLOOR || top > HEIGHT - BOTTOM + 2) return undefined;
  const far = (pin: Pin) => {
    const over = left >= frame.x(pin.start_s) - 2 && left <= frame.x(pin.end_s) + 2;
    return Math.min(over ? 1 : Infinity, pin.numbered ? Math.abs(left - pin.at) : Infinity);
  };
  const nearest = [...pins].sort((one, other) => far(one) - far(other))[0];
  return nearest && far(nearest) <= REACH ? nearest : undefined;
}

const ROUND = [1, 0.5, 0.2, 0.1, 0.05, 0.02, 0.01, 0.005, 0.002, 0.001];

/** The amplitude that the wave is drawn to, so that all of it is in the picture: in round steps. */
export function tallestOf(columns: Column[]): number {
  const highest = Math.max(...columns.map((it) => Math.max(it.high ?? 0, -(it.low ?? 0), amplitude(it.peak))));
  return ROUND.findLast((step) => step >= highest) ?? 1;
}

/** A time as the axis writes it: the closer, the finer. */
export function timeText(seconds: number, span: number): string {
  const decimals = span > 20 ? 0 : span > 2 ? 1 : span > 0.2 ? 2 : span > 0.02 ? 3 : 4;
  return clock(seconds, decimals);
}

const HERE_S = 0.5;

/** Where the playhead is, what is marked there and what lies ahead, for those who hear it. */
export function spokenAt(playhead: number, duration: number, places: Place[]): string {
  const apart = places.filter((place) => !place.whole);
  const here = apart.filter((place) => place.start_s <= playhead + HERE_S && place.end_s >= playhead);
  const [next] = apart
    .filter((place) => place.start_s > playhead + HERE_S + 0.01)
    .sort((one, other) => one.start_s - other.start_s);
  return [
    `${clock(playhead, 1)} of ${clock(duration, 1)}`,
    ...here.map((place) => `here ${place.number}, ${place.group}`),
    next ? `next ${next.number}, ${next.group}, in ${number(next.start_s - playhead, 1)} s` : 'nothing is marked ahead',
  ].join('; ');
}
