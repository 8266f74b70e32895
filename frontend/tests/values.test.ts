// Values on their way between a person and the server: settings of steps, the approach in an address, voices, levels.
import { afterEach, describe, expect, it, vi } from 'vitest';
import type { StepSetting } from '../src/lib/api';
import { asked, read as readApproach, written } from '../src/lib/approach';
import { STANDARD, type Usual } from '../src/lib/defaults';
import { CELL_S, Levels } from '../src/lib/levels';
import { Reduction } from '../src/lib/reduction';
import { moved, read, shown, withEntry, withoutEntry, withValue } from '../src/lib/settings';
import { given, voiceName } from '../src/lib/turns';

const setting = (rest: Partial<StepSetting>) => ({ form: 'number', ...rest }) as StepSetting;

describe('settings of a step', () => {
  it('are changed at a path, and what they were stays', () => {
    const before = { bands: [{ gain_db: 1 }, { gain_db: 2 }], on: true };
    expect(withValue(before, 'bands.1.gain_db', -3)).toEqual({ bands: [{ gain_db: 1 }, { gain_db: -3 }], on: true });
    expect(withValue({}, 'shape.width', 2)).toEqual({ shape: { width: 2 } });
    expect(before.bands[1]?.gain_db).toBe(2);
    expect(withEntry({}, 'spans', 1)).toEqual([1]);
    expect(withoutEntry({ spans: ['a', 'b', 'c'] }, 'spans.1')).toEqual(['a', 'c']);
  });
  it.each([
    [setting({ unit: 'dB', least: -20, most: 0 }), -6, 1, -5.5],
    [setting({ unit: 'dB', least: -20, most: 0 }), -0.2, 3, 0],
    [setting({ unit: 'Hz', least: 20, most: 20_000 }), 1000, 1, 1000],
    [setting({ unit: 'Hz', least: 20, most: 20_000 }), 1000, 10, 1300],
    [setting({ unit: ': 1', least: 1, most: 20 }), 2, -1, 1.9],
    [setting({ whole: true, least: 1, most: 8 }), 4, 9, 8],
  ])('move by notches %#', (one, from, notches, to) => expect(moved(one, from, notches)).toBe(to));
  it('are read as they are written', () => {
    expect(read(setting({}), '−1,200.5')).toBe(-1200.5);
    expect(read(setting({ form: 'numbers' as never }), '50; 100, 150')).toEqual([50, 100, 150]);
    expect([read(setting({ absent: 'none' as never }), ' '), read(setting({}), '')]).toEqual([null, '']);
    expect([
      shown(setting({ value: -3.25 })),
      shown(setting({ value: null })),
      shown(setting({ value: [50, 100] })),
    ]).toEqual(['−3.25', '', '50; 100']);
  });
});

describe('the approach in an address', () => {
  const usual: Usual = { preference: 'balanced', bounds: STANDARD };
  it('says only what is not usual, and is read again', () => {
    expect(written(readApproach('', usual), usual)).toBe('');
    const query = 'by=light&sound=own&like=r&limiting_db=3&without=a%2Cb';
    expect(written(readApproach(query, usual), usual)).toBe(query);
  });
  it('asks with bounds only where they are other than usual', () => {
    const of = (query: string) => asked(readApproach(query, usual), ['r'], true, usual);
    expect(of('')).toMatchObject({ preference: 'balanced', treatment: null, bounds: null, reference: false });
    expect(of('limiting_db=3').bounds).toMatchObject({ limiting_db: 3 });
    expect(of('by=:t')).toMatchObject({ preference: null, treatment: 't', reference: true });
  });
});

describe('voices', () => {
  it('are given a span, and passages of one voice are joined', () => {
    const turns = [
      { start_s: 0, end_s: 10, voice: 0 },
      { start_s: 10, end_s: 20, voice: 1 },
    ];
    expect(given(turns, { from: 8, to: 12 }, 1, 20)).toEqual([
      { start_s: 0, end_s: 8, voice: 0 },
      { start_s: 8, end_s: 20, voice: 1 },
    ]);
    expect(given([], { from: 1, to: 2 }, 1, 3).map(({ voice }) => voiceName(voice))).toEqual(['A', 'B', 'A']);
  });
});

describe('moved gain', () => {
  it('is read from differences, and told between two times', () => {
    const gain = new Reduction(new Int16Array([0, -600, 300, 300]).buffer); // 0, -6, -3, 0 dB
    expect(gain.deepest).toBe(-6);
    expect(gain.over(0, 0.2)).toEqual({ lowest: -6, mean: -2.25 });
    expect(gain.over(0.15, 0.2)).toEqual({ lowest: 0, mean: 0 });
  });
});

describe('levels', () => {
  afterEach(() => vi.unstubAllGlobals());
  const coarse = { peak_dbfs: [-10, -20], rms_dbfs: [-30, -40] } as never;
  const sound = { address: '/a', rate: 1000, duration: 2, offset: 0 };
  const settled = async (levels: Levels) => vi.waitFor(() => expect(levels.settled).toBe(true));

  it('come from the coarse ribbon until tiles are there, and where there are none', async () => {
    vi.stubGlobal('fetch', async () => new Response('', { status: 404 }));
    const levels = new Levels(sound, coarse, () => undefined);
    await settled(levels);
    expect(levels.columns(0, 1, 2)).toEqual([
      { rms: -30, peak: -10 },
      { rms: -40, peak: -20 },
    ]);
    expect(levels.columns(2, 1, 1)).toEqual([{ rms: -80, peak: -80 }]);
  });
  it('come from the tiles of the depth that is asked for', async () => {
    const paths: string[] = [];
    vi.stubGlobal('fetch', async (path: string) => {
      paths.push(path);
      if (path.endsWith('/tiles')) return Response.json({ columns: [400, 100], factor: 4, tile: 256 });
      return new Response(new Uint8Array([...Array(256).fill(0), ...Array(256).fill(255)]));
    });
    let told = 0;
    const levels = new Levels(sound, coarse, () => (told += 1));
    await vi.waitFor(() => expect(told).toBe(1));
    levels.columns(0, CELL_S * 4, 10);
    await vi.waitFor(() => expect(told).toBe(2));
    await settled(levels);
    expect(paths).toEqual(['/a/tiles', '/a/tiles/1/0']);
    expect(levels.columns(0, CELL_S * 4, 1)).toEqual([{ rms: -80, peak: 0 }]);
  });
});
