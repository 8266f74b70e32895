// The level ribbon drawn on a canvas: levels or the wave, pauses, what a draft is expected to bring, gain that moved, loudness.
import type { Foretold, Pause } from './api';
import { amplitude, decibels, type Column, type Levels } from './levels';
import type { Reduction } from './reduction';
import type { RibbonView } from './ribbon-view.svelte';
import type { Tracks } from './tracks';

/** What is drawn, and where: `y` gives a level's place, `width` is the plot's, all in pixels of the page. */
export interface Scene {
  view: RibbonView;
  levels: Levels;
  width: number;
  height: number;
  top: number;
  floor: number;
  y: (level: number) => number;
  /** The amplitude that is drawn as tall as it can be. */
  tallest: number;
  pauses: Pause[];
  /** The highest level that a pause may have. */
  bound: number;
  expected: Foretold | undefined;
  reduction: Reduction | null | undefined;
  tracks: Tracks | null | undefined;
}

const LOWEST = -80;
/** A decibel of moved gain is as tall as four of level, so that little of it can be seen; less where much was moved. */
const GAIN_PIXELS = 9;
const GAIN_MOST = 90;

/** The lowest gain that is drawn, in dB. */
export const deepest = ({ reduction, expected }: Pick<Scene, 'reduction' | 'expected'>): number =>
  Math.min(0, expected ? Math.min(...(expected.moved_db ?? [])) : (reduction?.deepest ?? 0));

/** Where an amplitude is drawn while the wave is. */
export function waveAt({ top, floor, tallest }: Pick<Scene, 'top' | 'floor' | 'tallest'>, value: number): number {
  const middle = (top + floor) / 2;
  return middle - (value / tallest) * (middle - top);
}

export function draw(on: HTMLCanvasElement, scene: Scene): void {
  const context = on.getContext('2d');
  if (!context) return;
  const dense = window.devicePixelRatio || 1;
  on.width = Math.round(scene.width * dense);
  on.height = Math.round(scene.height * dense);
  if (scene.view.span > 0) new Drawing(context, dense, scene, getComputedStyle(on)).all();
}

const highest = (levels: number[]) => Math.max(...levels);
const meanLevel = (levels: number[]) =>
  10 * Math.log10(levels.reduce((sum, level) => sum + 10 ** (level / 10), 0) / levels.length);

/** Values so many at a time, each part with the place of its first. */
function* parts(values: number[], together: number): Generator<[number, number[]]> {
  for (let first = 0; first < values.length; first += together) yield [first, values.slice(first, first + together)];
}

class Drawing {
  readonly #deepest: number;
  constructor(
    readonly context: CanvasRenderingContext2D,
    readonly dense: number,
    readonly scene: Scene,
    readonly style: CSSStyleDeclaration,
  ) {
    this.#deepest = deepest(scene);
  }

  all(): void {
    const { context, scene } = this;
    const { view, expected, reduction, tracks } = scene;
    const ink = this.style.color;
    context.strokeStyle = ink;
    if (!view.wave) this.#rooms();
    context.fillStyle = ink;
    if (expected?.peak_dbfs?.length) context.globalAlpha = 0.22;
    const count = Math.round(scene.width * this.dense);
    const close = (view.span / count) * scene.levels.sound.rate < 1;
    if (!(close && this.#samplesApart())) this.#outline(count);
    context.globalAlpha = 1;
    if (view.wave) return;
    if (expected) this.#expected(expected);
    context.strokeStyle = context.fillStyle = this.style.getPropertyValue('--act');
    if (!expected && reduction && reduction.deepest < -0.05) this.#gainMoved(reduction);
    if (view.loudness && tracks) this.#loudness(tracks);
  }

  /** A level's place in pixels of the canvas; what is below the scale stands at its foot. */
  #y(level: number): number {
    return this.scene.y(Math.max(level, LOWEST)) * this.dense;
  }
  /** A moment's place in pixels of the canvas. */
  #x(seconds: number): number {
    const { view, width } = this.scene;
    return ((seconds - view.start) / view.span) * width * this.dense;
  }
  #top(it: Column): number {
    const { scene } = this;
    return scene.view.wave ? waveAt(scene, it.high ?? amplitude(it.peak)) : scene.y(it.peak);
  }
  #bottom(it: Column): number {
    const { scene } = this;
    return scene.view.wave ? waveAt(scene, it.low ?? -amplitude(it.peak)) : scene.y(it.rms);
  }

  #gainMoved(moved: Reduction): void {
    const { view, width } = this.scene;
    const step = view.span / width;
    for (let column = 0; column < width; column++) {
      const { lowest, mean } = moved.over(view.start + column * step, view.start + (column + 1) * step);
      this.#hang(column * this.dense, this.dense, lowest, mean);
    }
  }

  /** Gain hangs from the top: filled as far as it is lowered on the whole, a line at the lowest. */
  #hang(from: number, wide: number, lowest: number, mean: number): void {
    if (lowest > -0.02) return;
    const { context, dense, scene } = this;
    const tall = (gain: number) => -gain * Math.min(GAIN_PIXELS, -GAIN_MOST / this.#deepest) * dense;
    context.globalAlpha = 0.42;
    if (mean < 0) context.fillRect(from, scene.top * dense, wide, tall(mean));
    context.globalAlpha = 0.8;
    context.fillRect(from, scene.top * dense + tall(lowest) - dense, wide, dense);
    context.globalAlpha = 1;
  }

  /** Short-term loudness as a meter would show it at each moment. */
  #loudness(run: Tracks): void {
    const { context, dense } = this;
    const { view, width, levels } = this.scene;
    const step = view.span / width;
    context.lineWidth = 1.6 * dense;
    context.beginPath();
    let before = false;
    for (let column = 0; column < width; column++) {
      const at = view.start + column * step + levels.sound.offset;
      const value = run.loudest(at, at + step);
      if (value !== null && before) context.lineTo(column * dense, this.#y(value));
      else if (value !== null) context.moveTo(column * dense, this.#y(value));
      before = value !== null;
    }
    context.stroke();
  }

  /** One outline, along the tops and back along the bottoms: it stays whole where the level falls faster than a column. */
  #outline(count: number): void {
    const { context, dense, scene } = this;
    const columns = scene.levels.columns(scene.view.start, scene.view.span / count, count);
    context.beginPath();
    columns.forEach((it, column) => context.lineTo(column, this.#top(it) * dense));
    for (let column = count - 1; column >= 0; column--) {
      const it = columns[column];
      if (it) context.lineTo(column, Math.max(this.#bottom(it), this.#top(it) + 1) * dense);
    }
    context.fill();
  }

  /** The edges of the ribbon that is expected: dashed, as nothing of it was measured; and the gain that would move. */
  #expected(it: Foretold): void {
    const { context, dense } = this;
    const length = this.scene.view.duration + it.leads_s;
    const place = (at: number, of: number) => this.#x((at / of) * length - it.leads_s);
    /** As many values together as a point of the picture needs. */
    const together = (count: number, pixels: number) =>
      Math.max(1, Math.floor((count * this.scene.view.span * pixels) / length / this.scene.width));
    context.lineWidth = 1.3 * dense;
    context.setLineDash([4 * dense, 2.5 * dense]);
    for (const [edge, of] of [[it.peak_dbfs ?? [], highest] as const, [it.rms_dbfs ?? [], meanLevel] as const]) {
      context.beginPath();
      for (const [first, part] of parts(edge, together(edge.length, 2)))
        context.lineTo(place(first + part.length / 2, edge.length), this.#y(of(part)));
      context.stroke();
    }
    context.setLineDash([]);
    context.fillStyle = this.style.getPropertyValue('--act');
    const [lowest, usual] = [it.moved_db ?? [], it.mean_moved_db ?? []];
    for (const [first, part] of parts(lowest, together(lowest.length, 1))) {
      const [from, to] = [place(first, lowest.length), place(first + part.length, lowest.length)];
      const mean = usual.slice(first, first + part.length).reduce((sum, gain) => sum + gain, 0) / part.length;
      this.#hang(from, Math.max(to - from, dense), Math.min(...part), mean);
    }
  }

  /** Each pause as a stroke at its own level; there are thousands in a long recording. */
  #rooms(): void {
    const { context, dense, scene } = this;
    const [over, under] = [this.style.getPropertyValue('--outside'), this.style.getPropertyValue('--act')];
    for (const { start_s, end_s, level_dbfs } of scene.pauses) {
      if (typeof level_dbfs !== 'number' || end_s < scene.view.start || start_s > scene.view.end) continue;
      context.fillStyle = level_dbfs > scene.bound ? over : under;
      const from = Math.max(0, this.#x(start_s));
      const to = Math.min(scene.width * dense, this.#x(end_s));
      context.fillRect(from, this.#y(level_dbfs) - 1.2 * dense, Math.max(to - from, 2), 2.5 * dense);
    }
  }

  /** Close enough to tell samples apart: a line through them, and a dot for each when they are few. False until they are there. */
  #samplesApart(): boolean {
    const { context, dense, scene } = this;
    const { view, levels } = scene;
    const samples = levels.samples(view.start, view.end);
    if (!samples) return false;
    const { offset } = levels.sound;
    const first = Math.max(0, Math.floor((view.start + offset - samples.start) * samples.rate));
    const last = Math.ceil((view.end + offset - samples.start) * samples.rate);
    const few = last - first < scene.width / 5;
    context.lineWidth = dense;
    for (let channel = 0; channel < samples.channels; channel++) {
      context.beginPath();
      const dots: [number, number][] = [];
      for (let frame = first; frame <= last; frame++) {
        const value = samples.values[frame * samples.channels + channel];
        if (value === undefined) break;
        const at = this.#x(samples.start + frame / samples.rate - offset);
        const level = (view.wave ? waveAt(scene, value) : scene.y(decibels(Math.abs(value)))) * dense;
        context.lineTo(at, level);
        dots.push([at, level]);
      }
      context.stroke();
      if (few)
        for (const [at, level] of dots) context.fillRect(at - 2 * dense, level - 2 * dense, 4 * dense, 4 * dense);
    }
    return true;
  }
}
