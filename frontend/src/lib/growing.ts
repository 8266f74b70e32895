// The level of a take as it grows, in few columns however long it gets.
import type { Level } from './take-check.svelte';

export interface GrownColumn {
  from: number;
  to: number;
  peak: number | null;
  rms: number | null;
  clipped: boolean;
}

const MOST = 600;
const STEP_S = 0.1;
const LENGTHS_S = [30, 60, 120, 300, 600, 1200, 1800, 3600, 7200, 10_800, 14_400, 21_600];

const higher = (one: number | null, other: number | null) =>
  one === null || other === null ? (one ?? other) : Math.max(one, other);

const both = (one: GrownColumn, other: GrownColumn): GrownColumn => ({
  from: one.from,
  to: other.to,
  peak: higher(one.peak, other.peak),
  rms: higher(one.rms, other.rms),
  clipped: one.clipped || other.clipped,
});

export class Growing {
  columns: GrownColumn[] = [];
  #step = STEP_S;

  /** Take in levels in the order of time. Each is of a tenth of a second, so that a gap stays one; or, of a take that was begun
   * `before`, of all since the one in front of it. */
  add(levels: Level[], before = false): void {
    for (const { at_s, peak_dbfs, rms_dbfs, full_scale } of levels) {
      const last = this.columns.at(-1);
      const from = before ? (last?.to ?? 0) : Math.max(at_s - STEP_S, 0);
      if (last && at_s <= last.to + 1e-6) continue;
      // What is silent has no level.
      const fresh = { from, to: at_s, peak: peak_dbfs ?? null, rms: rms_dbfs ?? null, clipped: full_scale > 0 };
      if (last && at_s - last.from <= this.#step + 1e-6) this.columns[this.columns.length - 1] = both(last, fresh);
      else this.columns.push(fresh);
      if (this.columns.length > MOST) this.#halve();
    }
  }

  /** How much time the picture shows: it grows by steps, so that it seldom moves. */
  static shown(seconds: number): number {
    return LENGTHS_S.find((one) => one >= seconds) ?? Math.ceil(seconds / 10_800) * 10_800;
  }

  #halve(): void {
    this.#step *= 2;
    const joined: GrownColumn[] = [];
    for (const column of this.columns) {
      const last = joined.at(-1);
      if (last && column.to - last.from <= this.#step + 1e-6) joined[joined.length - 1] = both(last, column);
      else joined.push(column);
    }
    this.columns = joined;
  }
}
