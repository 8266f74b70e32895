// The limits on a level as they stand on its axis: two bounds are a corridor, one is a line; names beside, pushed apart.
import type { LimitVerdict } from './api';
import { number } from './format';

const LEVELS = [
  'sample_peak_dbfs',
  'true_peak_dbtp',
  'momentary_max_lufs',
  'short_term_max_lufs',
  'rms_dbfs',
  'integrated_loudness_lufs',
  'active_speech_level_dbfs',
  'noise_floor_dbfs',
  'noise_floor_worst_pause_dbfs',
  'noise_floor_quietest_dbfs',
];
const NAME_HEIGHT = 13;

export interface LimitLine {
  limit: LimitVerdict;
  low: number;
  high: number;
  corridor: boolean;
  text: string;
  broken: boolean;
}

/** Every limit on a level, in the order of the specification. */
export function limitLines(limits: LimitVerdict[]): LimitLine[] {
  return limits
    .filter((limit) => LEVELS.includes(limit.quantity) && (limit.low !== null || limit.high !== null))
    .map((limit) => {
      const [low, high] = [limit.low ?? limit.high ?? 0, limit.high ?? limit.low ?? 0];
      const corridor = limit.low !== null && limit.high !== null && low < high;
      const figure = (value: number) => number(value, Number.isInteger(value) ? 0 : 1);
      const said = corridor ? `${figure(low)} to ${figure(high)}` : figure(high);
      return { limit, low, high, corridor, text: `${limit.title} ${said}`, broken: !corridor && !limit.passes };
    });
}

/** Moved down where they would touch, the highest first. */
export function apart<Name extends { at: number }>(names: Name[]): Name[] {
  let free = -Infinity;
  return [...names]
    .sort((one, other) => one.at - other.at)
    .map((name) => {
      free = Math.max(name.at, free + NAME_HEIGHT);
      return { ...name, at: free };
    });
}
