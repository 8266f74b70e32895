// Seams: the end of one recording and the beginning of the next, one behind the other, as a listener comes to hear them.
import type { Chapter } from './api';
import { bufferOf, partOf, type Part } from './parts';

const LENGTH_S = 5;

/** A piece of a recording: its last or first seconds. */
function part({ sound }: Chapter, last: boolean, signal: AbortSignal): Promise<Part> {
  const frames = Math.min(sound.frames, Math.round(LENGTH_S * sound.sample_rate_hz));
  return partOf(sound.address, { start: last ? sound.frames - frames : 0, frames, rate: sound.sample_rate_hz }, signal);
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
