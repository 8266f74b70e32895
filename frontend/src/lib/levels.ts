// The levels a ribbon is drawn from: tiles of the core's pyramid when many samples share a column, the samples themselves when few do.
import type { Ribbon } from './api';

export const CELL_S = 0.005;
const LOWEST_DB = -80;

/** What a picture is drawn from: its address, and how much later the same word comes in it than in the source, in seconds. */
export interface Sound {
  address: string;
  /** What the sound is known by, where edits may change it behind its address. */
  as?: string;
  rate: number;
  duration: number;
  offset: number;
}

interface Shape {
  columns: number[];
  factor: number;
  tile: number;
}

interface Tile {
  rms: Uint8Array;
  peak: Uint8Array;
}

export interface Samples {
  /** Time of the first frame, and frames in a second. */
  start: number;
  rate: number;
  channels: number;
  values: Float32Array;
}

/** Peak and RMS levels in dBFS of one column of the picture; `low` and `high` are sample values where they are known. */
export interface Column {
  rms: number;
  peak: number;
  low?: number;
  high?: number;
}

/** An address of something that is of a sound: it may be kept for as long as that is known as this. */
export const named = (address: string, as?: string) =>
  as ? `${address}${address.includes('?') ? '&' : '?'}as=${as}` : address;

const level = (byte: number) => LOWEST_DB + (byte / 255) * -LOWEST_DB;
/** Never below the lowest level of the picture. */
export const decibels = (amplitude: number) => Math.max(LOWEST_DB, 20 * Math.log10(Math.max(amplitude, 1e-9)));

export class Levels {
  #shape: Shape | undefined;
  #tiles = new Map<string, Tile | 'asked'>();
  #samples: Samples | undefined;
  /** Whether samples are on their way, or were asked for in vain: then the tiles have to do. */
  #asking = false;
  #awaited = 0;

  /** `coarse` stands in until tiles have come; `onmore` is called whenever something has. */
  constructor(
    readonly sound: Sound,
    readonly coarse: Ribbon,
    readonly onmore: () => void,
  ) {
    void this.#open();
  }

  /** Whether nothing is on its way any more: what is drawn now is as exact as it gets. */
  get settled(): boolean {
    return this.#awaited === 0;
  }

  /** The answer's body as `read` takes it, or nothing where there is none; then tells that there is more to draw. */
  async #get<Body>(path: string, read: (response: Response) => Promise<Body>): Promise<Body | undefined> {
    this.#awaited += 1;
    try {
      const response = await fetch(named(`${this.sound.address}/${path}`, this.sound.as));
      return response.ok ? await read(response) : undefined;
    } catch {
      return undefined;
    } finally {
      this.#awaited -= 1;
    }
  }

  async #open(): Promise<void> {
    // Where it was inspected before there were tiles, the coarse ribbon stays.
    this.#shape = await this.#get('tiles', (response) => response.json() as Promise<Shape>);
    this.onmore();
  }

  /** The levels of `count` columns from a time of the source on, each `step` seconds wide. */
  columns(from: number, step: number, count: number): Column[] {
    const start = from + this.sound.offset;
    const samples = step < CELL_S ? this.samples(from, from + step * count) : undefined;
    const depth = this.#depth(step);
    return Array.from({ length: count }, (_, index) => {
      const [from, to] = [start + index * step, start + (index + 1) * step];
      if (to <= 0 || from >= this.sound.duration) return { rms: LOWEST_DB, peak: LOWEST_DB };
      return (samples && ofSamples(samples, from, to)) ?? this.#ofTiles(depth, from, to) ?? this.#ofCoarse(from, to);
    });
  }

  #depth(step: number): number {
    if (!this.#shape) return 0;
    const wanted = Math.floor(Math.log(Math.max(step / CELL_S, 1)) / Math.log(this.#shape.factor));
    return Math.min(wanted, this.#shape.columns.length - 1);
  }

  #ofTiles(depth: number, from: number, to: number): Column | undefined {
    const shape = this.#shape;
    if (!shape) return undefined;
    const width = CELL_S * shape.factor ** depth;
    const first = Math.max(0, Math.floor(from / width + 1e-6));
    const last = Math.max(first + 1, Math.ceil(to / width - 1e-6));
    let [rms, peak] = [0, 0];
    for (let column = first; column < last; column++) {
      if (column >= (shape.columns[depth] ?? 0)) break;
      const tile = this.#tile(depth, Math.floor(column / shape.tile));
      if (!tile) return depth + 1 < shape.columns.length ? this.#ofTiles(depth + 1, from, to) : undefined;
      rms = Math.max(rms, tile.rms[column % shape.tile] ?? 0);
      peak = Math.max(peak, tile.peak[column % shape.tile] ?? 0);
    }
    return { rms: level(rms), peak: level(peak) };
  }

  #tile(depth: number, index: number): Tile | undefined {
    const key = `${depth}/${index}`;
    const found = this.#tiles.get(key);
    if (found === undefined) {
      this.#tiles.set(key, 'asked');
      void this.#fetch(key);
    }
    return found === 'asked' ? undefined : found;
  }

  async #fetch(key: string): Promise<void> {
    const body = await this.#get(`tiles/${key}`, (response) => response.arrayBuffer());
    if (body) {
      const [bytes, half] = [new Uint8Array(body), body.byteLength / 2];
      this.#tiles.set(key, { rms: bytes.subarray(0, half), peak: bytes.subarray(half) });
    }
    this.onmore(); // where there is none, a coarser one has to do
  }

  #ofCoarse(from: number, to: number): Column {
    const count = this.coarse.peak_dbfs.length;
    const first = Math.min(count - 1, Math.floor((from / this.sound.duration) * count));
    const last = Math.max(first + 1, Math.ceil((to / this.sound.duration) * count));
    return {
      rms: Math.max(...this.coarse.rms_dbfs.slice(first, last), LOWEST_DB),
      peak: Math.max(...this.coarse.peak_dbfs.slice(first, last), LOWEST_DB),
    };
  }

  /** The samples around a span of the source, when they are there, on their own time; asked for when they are not. */
  samples(first: number, last: number): Samples | undefined {
    const [from, to] = [first + this.sound.offset, last + this.sound.offset];
    const held = this.#samples;
    const end = Math.min(to, this.sound.duration);
    if (held && held.start <= from + 1e-9 && held.start + held.values.length / held.channels / held.rate >= end - 1e-3)
      return held;
    const margin = to - from;
    const start = Math.max(0, Math.floor((from - margin) * this.sound.rate));
    const frames = Math.min(1_000_000, Math.ceil((to + margin) * this.sound.rate) - start);
    if (!this.#asking) void this.#listen(start, frames);
    return undefined;
  }

  async #listen(start: number, frames: number): Promise<void> {
    this.#asking = true;
    const found = await this.#get(`sound?start=${start}&frames=${frames}`, async (response) => ({
      start: start / this.sound.rate,
      rate: this.sound.rate,
      channels: Number(response.headers.get('x-channels') ?? 1),
      values: new Float32Array(await response.arrayBuffer()),
    }));
    if (found) {
      this.#samples = found;
      this.#asking = false;
    }
    this.onmore();
  }
}

/** One column of samples: all channels together, as in the tiles. Undefined where no sample falls into it. */
function ofSamples(samples: Samples, from: number, to: number): Column | undefined {
  const first = Math.ceil((from - samples.start) * samples.rate - 1e-6);
  const last = Math.ceil((to - samples.start) * samples.rate - 1e-6);
  const count = Math.min(last, samples.values.length / samples.channels) - Math.max(first, 0);
  if (count <= 0) return undefined;
  let [low, high, sum] = [Infinity, -Infinity, 0];
  for (let at = Math.max(first, 0) * samples.channels; at < (Math.max(first, 0) + count) * samples.channels; at++) {
    const value = samples.values[at] ?? 0;
    low = Math.min(low, value);
    high = Math.max(high, value);
    sum += value * value;
  }
  return {
    rms: decibels(Math.sqrt(sum / (count * samples.channels))),
    peak: decibels(Math.max(Math.abs(low), Math.abs(high))),
    low,
    high,
  };
}

export const amplitude = (dbfs: number) => (dbfs <= LOWEST_DB ? 0 : 10 ** (dbfs / 20));
