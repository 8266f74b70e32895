// Seams: the end of one recording and the beginning of the next, one behind the other, as a listener comes to hear them.
import type { Chapter } from './api';
import { said } from './api';

const LENGTH_S = 5;

interface Part {
  samples: Float32Array;
  channels: number;
  rate: number;
}

/** A piece of a recording: its last or first seconds. */
async function part({ sound }: Chapter, last: boolean, signal: AbortSignal): Promise<Part> {
  const frames = Math.min(sound.frames, Math.round(LENGTH_S * sound.sample_rate_hz));
  const start = last ? sound.frames - frames : 0;
  const response = await fetch(`${sound.address}?start=${start}&frames=${frames}`, { signal });
  if (!response.ok) throw new Error(said(await response.text()));
  const samples = new Float32Array(await response.arrayBuffer());
  return { samples, channels: Number(response.headers.get('x-channels') ?? 1), rate: sound.sample_rate_hz };
}

function bufferOf(context: AudioContext, { samples, channels, rate }: Part): AudioBuffer {
  const count = samples.length / channels;
  const buffer = context.createBuffer(channels, Math.max(count, 1), rate);
  for (let channel = 0; channel < channels; channel++) {
    const line = buffer.getChannelData(channel);
    for (let frame = 0; frame < count; frame++) line[frame] = samples[frame * channels + channel] ?? 0;
  }
  return buffer;
}

/** By how much each of two is turned down so that both voices are equally loud, in dB: the louder one, as turning up might clip. */
export function matching(one: Chapter, other: Chapter): [number, number] {
  const [first, second] = [one.sound.voice_dbfs, other.sound.voice_dbfs];
  if (first === null || second === null) return [0, 0];
  return [Math.min(0, second - first), Math.min(0, first - second)];
}

export class Seams {
  /** The place of the first of both recordings that are heard, or nothing. */
  playing = $state<number>();
  /** Whether the voices of both are brought to the same level. */
  matched = $state(false);
  problem = $state('');
  #context: AudioContext | undefined;
  #nodes: AudioBufferSourceNode[] = [];
  #abort = new AbortController();

  stop(): void {
    this.#abort.abort();
    for (const node of this.#nodes) node.stop();
    this.#nodes = [];
    this.playing = undefined;
  }

  async play(chapters: Chapter[], at: number): Promise<void> {
    this.stop();
    const [one, other] = [chapters[at], chapters[at + 1]];
    if (!one || !other) return;
    this.playing = at;
    this.problem = '';
    const { signal } = (this.#abort = new AbortController());
    try {
      const parts = await Promise.all([part(one, true, signal), part(other, false, signal)]);
      if (signal.aborted) return;
      const context = (this.#context ??= new AudioContext());
      await context.resume();
      const gains = this.matched ? matching(one, other) : ([0, 0] as const);
      let when = context.currentTime + 0.05;
      for (const [place, piece] of parts.entries()) {
        const node = context.createBufferSource();
        const gain = context.createGain();
        gain.gain.value = 10 ** ((gains[place] ?? 0) / 20);
        node.buffer = bufferOf(context, piece);
        node.connect(gain).connect(context.destination);
        node.start(when);
        when += node.buffer.duration;
        this.#nodes.push(node);
        if (place === 1) node.onended = () => !signal.aborted && this.stop();
      }
    } catch (error) {
      if (signal.aborted) return;
      this.stop();
      this.problem = `Playback stopped: ${(error as Error).message}`;
    }
  }
}
