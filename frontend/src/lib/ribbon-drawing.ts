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
/** A decibel of moved gain is as tall as four of level, so that little of it can be seen. */
const GAIN_PIXELS = 9;
const GAIN_MOST = 90;

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

class Drawing {
  constructor(
    readonly context: CanvasRenderingContext2D,
    readonly dense: number,
    readonly scene: Scene,
    readonly style: CSSStyleDeclaration,
  ) {}

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
    if (reduction && reduction.deepest < -0.05) this.#gainMoved(reduction);
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
    this.context.globalAlpha = 0.42;
    for (let column = 0; column < width; column++) {
      const gain = moved.lowest(view.start + column * step, view.start + (column + 1) * step);
      if (gain < -0.02) this.#hang(column * this.dense, this.dense, gain);
    }
    this.context.globalAlpha = 1;
  }

  /** Gain hangs from the top. */
  #hang(from: number, wide: number, gain: number): void {
    const { dense, scene } = this;
    this.context.fillRect(from, scene.top * dense, wide, Math.min(-gain * GAIN_PIXELS, GAIN_MOST) * dense);
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

  /** The edges of the ribbon that is expected: dashed, as nothing of it was measured. */
  #expected(it: Foretold): void {
    const { context, dense } = this;
    const length = this.scene.view.duration + it.leads_s;
    context.lineWidth = 1.3 * dense;
    context.setLineDash([4 * dense, 2.5 * dense]);
    for (const edge of [it.peak_dbfs ?? [], it.rms_dbfs ?? []]) {
      context.beginPath();
      edge.forEach((level, index) =>
        context.lineTo(this.#x(((index + 0.5) / edge.length) * length - it.leads_s), this.#y(level)),
      );
      context.stroke();
    }
    context.setLineDash([]);
    const moved = it.moved_db ?? [];
    context.fillStyle = this.style.getPropertyValue('--act');
    context.globalAlpha = 0.42;
    moved.forEach((gain, index) => {
      const [from, to] = [index, index + 1].map((edge) => this.#x((edge / moved.length) * length - it.leads_s));
      if (gain < -0.05) this.#hang(from ?? 0, Math.max((to ?? 0) - (from ?? 0), dense), gain);
    });
    context.globalAlpha = 1;
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
