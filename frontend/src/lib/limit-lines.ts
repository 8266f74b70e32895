// The limits on a level as they stand on its axis: two bounds are a corridor, one is a line; names beside, pushed apart.
import type { LimitVerdict } from './api';
import { exact } from './format';
import { quantity } from './quantities';

export const NAME_HEIGHT = 13;
const WIDEST = 23;

export interface LimitLine {
  limit: LimitVerdict;
  low: number;
  high: number;
  corridor: boolean;
  rows: string[];
  broken: boolean;
}

/** Every limit on a level, in the order of the specification. */
export function limitLines(limits: LimitVerdict[]): LimitLine[] {
  return limits
    .filter((limit) => quantity(limit.quantity).on_ribbon && (limit.low !== null || limit.high !== null))
    .map((limit) => {
      const [low, high] = [limit.low ?? limit.high ?? 0, limit.high ?? limit.low ?? 0];
      const corridor = limit.low !== null && limit.high !== null && low < high;
      const said = corridor ? `${exact(low)} to ${exact(high)}` : exact(high);
      return { limit, low, high, corridor, rows: rows(limit.title, said), broken: !corridor && !limit.passes };
    });
}

/** In one row beside the picture, in two where that would be cut off. */
function rows(title: string, said: string): string[] {
  return title.length + said.length < WIDEST ? [`${title} ${said}`] : [title, said];
}

/** Moved down where they would touch, the highest first. */
export function apart<Name extends { at: number; rows: string[] }>(names: Name[]): Name[] {
  let free = -Infinity;
  return [...names]
    .sort((one, other) => one.at - other.at)
    .map((name) => {
      const at = Math.max(name.at, free);
      free = at + NAME_HEIGHT * name.rows.length;
      return { ...name, at };
    });
}
