// The ribbon's picture: where everything stands, and what is drawn and said.
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import type { LimitVerdict } from '../src/lib/api';
import type { Levels } from '../src/lib/levels';
import { apart, limitLines, NAME_HEIGHT } from '../src/lib/limit-lines';
import type { Place } from '../src/lib/places';
import { deepest, draw, waveAt, type Scene } from '../src/lib/ribbon-drawing';
import * as geometry from '../src/lib/ribbon-geometry';
import { RibbonView } from '../src/lib/ribbon-view.svelte';

const place = (number: number, start_s: number, end_s: number, rest: Partial<Place> = {}): Place => ({
  number,
  group: 'Clicks',
  start_s,
  end_s,
  outside: false,
  whole: false,
  said: '',
  accepted: '',
  ...rest,
});
const frame = geometry.frameOf(1176, { start: 0, end: 100 }); // ten pixels for each second

describe('the frame', () => {
  it('leaves room for names beside, or none on a narrow screen', () => {
    expect(frame).toMatchObject({ width: 1176, right: 1044, plot: 1000, narrow: false });
    expect(geometry.frameOf(320, { start: 0, end: 1 })).toMatchObject({ right: 312, narrow: true });
    expect(geometry.frameOf(20, { start: 0, end: 1 }).width).toBe(200);
  });
  it('gives a span its place, cut at the edges and never too thin', () => {
    expect(geometry.across(frame, 10, 20)).toEqual({ x: 144, width: 100 });
    expect(geometry.across(frame, -5, 10)).toEqual({ x: 44, width: 100 });
    expect(geometry.across(frame, 99, 140)).toEqual({ x: 1034, width: 10 });
    expect(geometry.across(frame, 50, 50.0001, 3)?.width).toBe(3);
    expect(geometry.across(frame, 101, 140)).toBeUndefined();
    expect(geometry.across(frame, -9, -1)).toBeUndefined();
  });
  it('gives a pointer its time, inside the plot', () => {
    expect([0, 44, 544, 1044, 2000].map((left) => geometry.timeAt(frame, left))).toEqual([0, 0, 50, 100, 100]);
  });
  it('puts full scale at the top and the lowest level at the floor', () => {
    expect([geometry.y(0), geometry.y(-80)]).toEqual([geometry.TOP, geometry.FLOOR]);
  });
});

describe('places', () => {
  const lane = geometry.FLOOR + 8;
  it('are numbered where a number has room', () => {
    const pins = geometry.pinsOf([place(2, 10.5, 10.6), place(1, 10, 10.1), place(3, 40, 60)], frame);
    expect(pins.map(({ number, numbered }) => [number, numbered])).toEqual([
      [1, true],
      [2, false],
      [3, true],
    ]);
    expect(pins[2]?.at).toBe(544);
  });
  it('that fill the file or lie outside the view are not drawn', () => {
    const view = geometry.frameOf(1176, { start: 50, end: 60 });
    const pins = geometry.pinsOf([place(1, 10, 20), place(0, 0, 100, { whole: true }), place(2, 45, 51)], view);
    expect(pins.map(({ number }) => number)).toEqual([2]);
  });
  it('are found under the pointer in their lane alone', () => {
    const pins = geometry.pinsOf([place(1, 10, 10.1), place(2, 40, 60)], frame);
    const at = (left: number, top = lane) => geometry.pinAt(pins, frame, left, top)?.number;
    expect([at(145), at(450), at(553), at(300), at(145, 20), at(145, 400)]).toEqual([
      1,
      2,
      2,
      undefined,
      undefined,
      undefined,
    ]);
  });
});

describe('what is said', () => {
  it('tells times the finer the closer one looks', () => {
    expect([60, 10, 1, 0.1, 0.01].map((span) => geometry.timeText(61.23456, span))).toEqual([
      '1:01',
      '1:01.2',
      '1:01.23',
      '1:01.235',
      '1:01.2346',
    ]);
  });
  it('tells of the playhead what is here and what lies ahead', () => {
    const places = [place(1, 2, 3), place(2, 20, 21, { group: 'Hum' }), place(0, 0, 60, { whole: true })];
    expect(geometry.spokenAt(2.5, 60, places)).toBe('0:02.5 of 1:00.0; here 1, Clicks; next 2, Hum, in 17.5 s');
    expect(geometry.spokenAt(30, 60, places)).toBe('0:30.0 of 1:00.0; nothing is marked ahead');
  });
});

describe('the names of limits', () => {
  const limit = (quantity: string, low: number | null, high: number | null, passes = true) =>
    ({ quantity, low, high, passes, title: quantity, reading: -20 }) as unknown as LimitVerdict;
  it('make two bounds a corridor and one a line', () => {
    const [level, peak] = limitLines([limit('rms_dbfs', -23, -18), limit('sample_peak_dbfs', null, -3, false)]);
    expect(level).toMatchObject({ corridor: true, low: -23, high: -18, broken: false });
    expect(peak).toMatchObject({ corridor: false, high: -3, broken: true });
    expect(limitLines([limit('rms_dbfs', null, null), limit('duration_s', 1, 2)])).toEqual([]);
  });
  it('are pushed apart from above', () => {
    const names = apart([
      { at: 100, rows: ['b'] },
      { at: 98, rows: ['a', 'in two rows'] },
      { at: 300, rows: ['c'] },
    ]);
    expect(names.map(({ at }) => at)).toEqual([98, 98 + 2 * NAME_HEIGHT, 300]);
  });
});

describe('the wave', () => {
  it('is drawn as tall as all of it fits, in round steps', () => {
    const column = { rms: -30, peak: -20 };
    expect(geometry.tallestOf([{ ...column, high: 0.03, low: -0.04 }])).toBe(0.1); // the peak of -20 dBFS counts too
    expect(geometry.tallestOf([{ rms: -80, peak: -80, high: 0.0004, low: -0.0001 }])).toBe(0.001);
    expect(geometry.tallestOf([{ rms: 0, peak: 3 }])).toBe(1);
  });
  it('stands around the middle', () => {
    const scene = { top: 0, floor: 200, tallest: 0.5 };
    expect([0.5, 0, -0.25].map((value) => waveAt(scene, value))).toEqual([0, 100, 150]);
  });
});

describe('the view', () => {
  const opened = () => {
    const view = new RibbonView();
    view.open(100);
    return view;
  };
  it('comes closer around what is looked at, and stays inside', () => {
    const view = opened();
    view.zoom(4, 50);
    expect([view.start, view.end]).toEqual([37.5, 62.5]);
    view.pan(1000);
    expect([view.start, view.end]).toEqual([75, 100]);
    view.zoom(1e9, 80);
    expect(view.span).toBeCloseTo(64 / 44_100, 9);
    view.zoom(1e-9, 80);
    expect(view.whole).toBe(true);
  });
  it('turns the page with the playhead, and brings a place in without changing how close it is', () => {
    const view = opened();
    view.show(0, 10);
    view.follow(5);
    expect(view.start).toBe(0);
    view.follow(12);
    expect([view.start, view.end]).toEqual([11.5, 21.5]);
    view.reveal(80, 82);
    expect([view.start, view.end]).toEqual([76, 86]);
    view.reveal(10, 50);
    expect([view.start, view.end]).toEqual([6, 54]);
  });
  it('keeps its place for the same recording and starts anew for another', () => {
    const view = opened();
    view.show(10, 20);
    view.select(18, 12);
    view.open(100);
    expect([view.start, view.selection]).toEqual([10, { from: 12, to: 18 }]);
    view.open(50);
    expect([view.end, view.selection]).toEqual([50, undefined]);
  });
});

/** Everything that is asked of a canvas, in order. */
function recorded() {
  const done: [string, ...number[]][] = [];
  const ways = ['beginPath', 'moveTo', 'lineTo', 'stroke', 'fill', 'fillRect', 'setLineDash'];
  const context = Object.fromEntries(ways.map((way) => [way, (...given: number[]) => done.push([way, ...given])]));
  return { context, done, of: (way: string) => done.filter(([one]) => one === way).map(([, ...given]) => given) };
}

describe('the drawing', () => {
  beforeEach(() => {
    vi.stubGlobal('window', { devicePixelRatio: 2 });
    vi.stubGlobal('getComputedStyle', () => ({ color: 'ink', getPropertyValue: (name: string) => name }));
  });
  afterEach(() => vi.unstubAllGlobals());

  const levels = {
    sound: { address: '', rate: 44_100, duration: 10, offset: 0 },
    settled: true,
    columns: (_from: number, _step: number, count: number) =>
      Array.from({ length: count }, () => ({ rms: -40, peak: -20 })),
    samples: () => undefined,
  } as unknown as Levels;
  const sceneOf = (rest: Partial<Scene> = {}): Scene => {
    const view = new RibbonView();
    view.open(10);
    return {
      view,
      levels,
      width: 100,
      height: 222,
      top: 0,
      floor: 160,
      y: (level) => -2 * level,
      tallest: 1,
      pauses: [],
      bound: -60,
      expected: undefined,
      reduction: undefined,
      tracks: undefined,
      ...rest,
    };
  };
  const drawnOf = (scene: Scene) => {
    const { context, ...rest } = recorded();
    const canvas = { width: 0, height: 0, getContext: () => context } as unknown as HTMLCanvasElement;
    draw(canvas, scene);
    return { canvas, context: context as Record<string, unknown>, ...rest };
  };

  it('is as fine as the screen, and closes one outline from peaks to levels', () => {
    const { canvas, of } = drawnOf(sceneOf());
    expect([canvas.width, canvas.height]).toEqual([200, 444]);
    const outline = of('lineTo');
    expect(outline).toHaveLength(400);
    expect([outline[0], outline.at(-1)]).toEqual([
      [0, 80],
      [0, 160],
    ]);
    expect(of('fill')).toHaveLength(1);
  });
  it('draws each pause at its level, and none that is not in view or silent', () => {
    const pauses = [
      { start_s: 1, end_s: 2, level_dbfs: -70 },
      { start_s: 3, end_s: 4, level_dbfs: 'silence' },
      { start_s: 20, end_s: 21, level_dbfs: -70 },
    ] as unknown as Scene['pauses'];
    expect(drawnOf(sceneOf({ pauses })).of('fillRect')).toEqual([[20, 280 - 2.4, 20, 5]]);
  });
  it('hangs moved gain from the top, and nothing where none was moved', () => {
    const moved = (deepest: number) =>
      ({
        deepest,
        over: (from: number) => (from < 5 ? { lowest: deepest, mean: deepest / 2 } : { lowest: 0, mean: 0 }),
      }) as never;
    const hung = drawnOf(sceneOf({ reduction: moved(-6) })).of('fillRect');
    expect(hung).toHaveLength(100); // a fill and a line in each of fifty columns
    expect(hung[0]).toEqual([0, 0, 2, 3 * 9 * 2]);
    expect(drawnOf(sceneOf({ reduction: moved(-0.01) })).of('fillRect')).toEqual([]);
    expect(deepest({ reduction: moved(-6), expected: undefined })).toBe(-6);
    expect(deepest({ reduction: undefined, expected: undefined })).toBe(0);
  });
  it('breaks the line of loudness where nothing was measured', () => {
    const tracks = { loudest: (from: number) => (from < 2 || from > 8 ? -20 : null) } as never;
    const view = new RibbonView();
    view.open(10);
    view.loudness = true;
    const { of } = drawnOf(sceneOf({ view, tracks }));
    expect(of('moveTo')).toHaveLength(2);
  });
  it('dashes what is expected, as nothing of it was measured', () => {
    const expected = {
      peak_dbfs: [-20, -18],
      rms_dbfs: [-30, -30],
      moved_db: [0, -3],
      mean_moved_db: [0, -1],
      leads_s: 0,
    };
    const { of } = drawnOf(sceneOf({ expected: expected as never }));
    expect(of('setLineDash')).toHaveLength(2);
    expect(of('stroke')).toHaveLength(2);
  });
  it('draws nothing before there is anything to look at', () => {
    expect(drawnOf(sceneOf({ view: new RibbonView() })).done).toEqual([]);
  });
});
