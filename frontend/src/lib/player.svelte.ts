// Playing source and treated in lockstep: short PCM pieces of both are scheduled at the same moments, and a swap only moves two gains.

import { said } from './api';

export interface Track {
  address: string;
  rate: number;
  frames: number;
  /** How much later the same word comes in this track than in the source, in seconds. */
  offset: number;
  /** Integrated loudness, for matching. */
  loudness: number | null;
}

type Side = 'source' | 'treated';

const PIECE_S = 1;
const AHEAD_S = 2.5;
const FADE_S = 0.006;

export class Player {
  playing = $state(false);
  /** Position on the source's time, in seconds. */
  position = $state(0);
  side = $state<Side>('source');
  matched = $state(true);
  /** While two versions are compared blind nothing may tell which is heard. */
  hidden = $state(false);
  problem = $state('');
  /** What is played over and over, in seconds of the source. */
  loop = $state<{ from: number; to: number }>();
  #tracks = $state<Partial<Record<Side, Track>>>({});
  #context: AudioContext | undefined;
  #gains: Partial<Record<Side, GainNode>> = {};
  #nodes: AudioBufferSourceNode[] = [];
  #run = 0;
  #zero = 0;
  #from = 0;

  /** What each side is turned down by so that both are equally loud, in dB: the louder one, as turning up might clip. */
  readonly match = $derived.by((): Record<Side, number> => {
    const one = this.#tracks.source?.loudness ?? null;
    const other = this.#tracks.treated?.loudness ?? null;
    const louder = one !== null && other !== null ? one - other : 0;
    return { source: Math.min(0, -louder), treated: Math.min(0, louder) };
  });

  get duration(): number {
    const source = this.#tracks.source;
    return source ? source.frames / source.rate : 0;
  }

  get hasTreated(): boolean {
    return this.#tracks.treated !== undefined;
  }

  load(source: Track, treated?: Track): void {
    const same = this.#tracks.source?.address === source.address && this.#tracks.treated?.address === treated?.address;
    this.#tracks = { source, treated };
    if (same) return;
    this.stop();
    if (!treated) this.side = 'source';
  }

  toggle(): void {
    if (this.playing) this.stop();
    else void this.play();
  }

  seek(seconds: number): void {
    const again = this.playing;
    this.stop();
    this.position = Math.max(0, Math.min(seconds, this.duration));
    if (again) void this.play();
  }

  swap(to?: Side): void {
    if (!this.hasTreated) return;
    this.side = to ?? (this.side === 'source' ? 'treated' : 'source');
    this.#level();
  }

  setMatched(on: boolean): void {
    this.matched = on;
    this.#level();
  }

  stop(): void {
    this.#run += 1;
    for (const node of this.#nodes) node.stop();
    this.#nodes = [];
    this.playing = false;
  }

  async play(): Promise<void> {
    const source = this.#tracks.source;
    if (!source) return;
    if (this.loop && (this.position < this.loop.from || this.position >= this.loop.to)) this.position = this.loop.from;
    if (this.position >= this.duration - 0.05) this.position = 0;
    this.problem = '';
    const run = ++this.#run;
    this.#context ??= new AudioContext({ sampleRate: source.rate });
    const context = this.#context;
    await context.resume();
    for (const side of ['source', 'treated'] as const) {
      if (this.#gains[side]) continue;
      const gain = context.createGain();
      gain.connect(context.destination);
      this.#gains[side] = gain;
    }
    this.#level();
    this.playing = true;
    this.#from = this.position;
    try {
      let next = this.#from;
      const first = await this.#pieces(context, next);
      if (run !== this.#run) return;
      this.#zero = context.currentTime + 0.05;
      this.#schedule(context, first, next);
      next += PIECE_S;
      this.#follow(context, run);
      while (run === this.#run && next < this.duration) {
        const wait = next - AHEAD_S - (this.#from + context.currentTime - this.#zero);
        if (wait > 0) {
          await new Promise((resolve) => setTimeout(resolve, wait * 1000));
          continue;
        }
        const pieces = await this.#pieces(context, next);
        if (run !== this.#run) return;
        this.#schedule(context, pieces, next);
        next += PIECE_S;
      }
    } catch (error) {
      if (run !== this.#run) return;
      this.stop();
      this.problem = `Playing stopped: ${(error as Error).message}`;
    }
  }

  /** Where we are, as long as we play. */
  #follow(context: AudioContext, run: number): void {
    const step = () => {
      if (run !== this.#run) return;
      this.position = Math.min(this.duration, this.#from + Math.max(0, context.currentTime - this.#zero));
      if (this.loop && this.position >= this.loop.to) this.seek(this.loop.from);
      else if (this.position >= this.duration) this.stop();
      else requestAnimationFrame(step);
    };
    requestAnimationFrame(step);
  }

  #level(): void {
    const context = this.#context;
    if (!context) return;
    for (const side of ['source', 'treated'] as const) {
      const turned = this.matched ? 10 ** (this.match[side] / 20) : 1;
      this.#gains[side]?.gain.setTargetAtTime(side === this.side ? turned : 0, context.currentTime, FADE_S);
    }
  }

  #pieces(context: AudioContext, at: number): Promise<[Side, AudioBuffer | null, number][]> {
    const wanted = (['source', 'treated'] as const).filter((side) => this.#tracks[side]);
    return Promise.all(wanted.map((side) => this.#piece(context, side, at)));
  }

  async #piece(context: AudioContext, side: Side, at: number): Promise<[Side, AudioBuffer | null, number]> {
    const track = this.#tracks[side];
    if (!track) return [side, null, 0];
    const wanted = Math.round((at + track.offset) * track.rate);
    const start = Math.max(0, wanted);
    const frames = Math.round((at + PIECE_S + track.offset) * track.rate) - start;
    if (frames <= 0 || start >= track.frames) return [side, null, 0];
    const response = await fetch(`${track.address}?start=${start}&frames=${frames}`);
    if (!response.ok) throw new Error(said(await response.text()));
    const channels = Number(response.headers.get('x-channels') ?? 1);
    const samples = new Float32Array(await response.arrayBuffer());
    const count = samples.length / channels;
    if (count === 0) return [side, null, 0];
    const buffer = context.createBuffer(channels, count, track.rate);
    for (let channel = 0; channel < channels; channel++) {
      const line = buffer.getChannelData(channel);
      for (let frame = 0; frame < count; frame++) line[frame] = samples[frame * channels + channel] ?? 0;
    }
    return [side, buffer, (start - wanted) / track.rate];
  }

  #schedule(context: AudioContext, pieces: [Side, AudioBuffer | null, number][], at: number): void {
    for (const [side, buffer, late] of pieces) {
      const gain = this.#gains[side];
      if (!buffer || !gain) continue;
      const node = context.createBufferSource();
      node.buffer = buffer;
      node.connect(gain);
      node.start(this.#zero + (at - this.#from) + late);
      this.#nodes.push(node);
      node.onended = () => (this.#nodes = this.#nodes.filter((other) => other !== node));
    }
  }
}
