// The level of a take that grows, and takes that were interrupted.
import { describe, expect, it } from 'vitest';
import { Growing } from '../src/lib/growing';
import type { HeldTake } from '../src/lib/held-pieces';
import { interrupted } from '../src/lib/taking.svelte';

const level = (at_s: number, peak: number | null = -20, full_scale = 0) => ({
  at_s,
  peak_dbfs: peak,
  true_peak_dbtp: null,
  rms_dbfs: peak === null ? null : peak - 10,
  momentary_lufs: null,
  full_scale,
});
const tenths = (from: number, to: number) => Array.from({ length: to - from }, (_, n) => level((from + n + 1) / 10));

describe('a level that grows', () => {
  it('has a column for each tenth of a second', () => {
    const growing = new Growing();
    growing.add(tenths(0, 30));
    expect(growing.columns).toHaveLength(30);
    expect(growing.columns.at(-1)?.to).toBeCloseTo(3);
  });

  it('stays small however long it gets, and loses no peak and no clipping', () => {
    const growing = new Growing();
    for (let at = 0; at < 108_000; at += 10)
      growing.add(
        tenths(at, at + 10).map((one, n) => (at === 54_320 && n === 7 ? { ...one, peak_dbfs: 0, full_scale: 3 } : one)),
      );
    expect(growing.columns.length).toBeGreaterThan(250);
    expect(growing.columns.length).toBeLessThanOrEqual(600);
    expect(growing.columns[0]?.from).toBe(0);
    expect(growing.columns.at(-1)?.to).toBeCloseTo(10_800);
    const loud = growing.columns.filter(({ peak }) => peak === 0);
    expect(loud).toHaveLength(1);
    expect(loud[0]?.clipped).toBe(true);
    expect(loud[0]?.from).toBeLessThanOrEqual(5_432.7);
    expect(loud[0]?.to).toBeGreaterThanOrEqual(5_432.8);
  });

  it('shows what is missing as a gap, and what was told before as a whole', () => {
    const growing = new Growing();
    growing.add([level(10), level(20), level(30, null)], true);
    expect(growing.columns.map(({ from, to }) => [from, to])).toEqual([
      [0, 10],
      [10, 20],
      [20, 30],
    ]);
    growing.add([level(30.1), level(35.1)]);
    expect(growing.columns.at(-2)?.to).toBeCloseTo(30.1);
    expect(growing.columns.at(-1)?.from).toBeCloseTo(35);
  });

  it('knows silence, told or not', () => {
    const growing = new Growing();
    growing.add([{ at_s: 0.1, full_scale: 0 } as never, level(0.2, null)]);
    expect(growing.columns.map(({ peak, rms }) => [peak, rms])).toEqual([
      [null, null],
      [null, null],
    ]);
  });

  it('takes nothing in twice', () => {
    const growing = new Growing();
    growing.add(tenths(0, 5));
    growing.add(tenths(3, 8));
    expect(growing.columns).toHaveLength(8);
  });

  it('is shown in a picture that seldom moves', () => {
    expect([0, 29, 31, 100, 4_000, 30_000].map((seconds) => Growing.shown(seconds))).toEqual([
      30, 30, 60, 120, 7_200, 32_400,
    ]);
  });
});

describe('interrupted takes', () => {
  const held: HeldTake = {
    id: 'a',
    production: 'p',
    name: 'Take 1',
    heardFrom: 'Mine',
    rate: 48_000,
    begunAt: '2026-03-02T09:00:00Z',
    marks: [{ frame: 5, text: 'mine' }],
  };
  const there = {
    id: 'a',
    name: 'Take 1.wav',
    heard_from: 'Theirs',
    begun_at: '2026-03-02T09:00:00Z',
    sample_rate_hz: 44_100,
    channels: 1,
    kept_s: 3,
    marks: [],
    goes_on: false,
  };

  it('are those of the server, with the marks of this browser', () => {
    expect(interrupted([there], [held])).toMatchObject([
      { id: 'a', rate: 44_100, kept: 3, there: true, marks: [{ text: 'mine' }] },
    ]);
    expect(interrupted([there], [])).toMatchObject([{ id: 'a', marks: [] }]);
  });

  it('are those that only this browser knows, and none that goes on elsewhere', () => {
    expect(interrupted([], [held])).toMatchObject([{ id: 'a', there: false, kept: null }]);
    expect(interrupted([{ ...there, goes_on: true }], [held])).toEqual([]);
  });
});
