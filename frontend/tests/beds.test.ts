// How loud a bed is against the voice, as it is drawn under the ribbon.
import { describe, expect, it } from 'vitest';
import type { BedView } from '../src/lib/api';
import { levelAt, levels, LOWEST_LU } from '../src/lib/bed-line';
import { Reduction } from '../src/lib/reduction';

const clip = { sound: 'a', out_s: 10, level_lu: -12, fade_in_s: 1, fade_out_s: 2 };
const laid = (...clips: (typeof clip)[]): Pick<BedView, 'bed' | 'heard'> => ({
  bed: { clips } as BedView['bed'],
  heard: clips.map(() => ({ start_s: 2, end_s: 12 })),
});

/** Gain of each 50 ms in dB, as the server keeps it. */
function gain(values: number[]): Reduction {
  const steps = values.map((value) => Math.round(value * 100));
  const differences = Int16Array.from(steps, (value, index) => value - (steps[index - 1] ?? 0));
  return new Reduction(differences.buffer);
}

describe('the level of a bed', () => {
  it('is that of its clip, by quarters of a sine at both ends, and nothing outside', () => {
    expect(levelAt(laid(clip), 6)).toBeCloseTo(-12);
    expect(levelAt(laid(clip), 2.5)).toBeCloseTo(-12 - 3.01, 2);
    expect(levelAt(laid(clip), 11)).toBeCloseTo(-12 - 3.01, 2);
    expect(levelAt(laid(clip), 1.9)).toBeUndefined();
    expect(levelAt(laid(clip), 12)).toBeUndefined();
  });

  it('is that of all clips by their powers', () => {
    expect(levelAt(laid(clip, clip), 6)).toBeCloseTo(-12 + 3.01, 2);
  });

  it('is lowered as the voice lowers it, and stands at the foot in silence', () => {
    const lowered = gain([...Array<number>(120).fill(0), ...Array<number>(40).fill(-8), ...Array<number>(80).fill(0)]);
    const found = levels(laid(clip), lowered, 0, 12, 12);
    expect(found).toHaveLength(12);
    expect(found[0]).toBe(LOWEST_LU);
    expect(found[5]).toBeCloseTo(-12, 1);
    expect(found[6]).toBeCloseTo(-20, 1);
    expect(found[7]).toBeCloseTo(-20, 1);
    expect(found[8]).toBeCloseTo(-12, 1);
  });
});
