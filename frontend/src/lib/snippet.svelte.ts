// A stretch of a file played once, beside what the bench plays.
import { bufferOf, partOf } from './parts';

export class Snippet {
  /** What is playing, by the name it was given. */
  playing = $state<string | number>();
  problem = $state('');
  #context: AudioContext | undefined;
  #node: AudioBufferSourceNode | undefined;
  #abort = new AbortController();
  #hush: () => void;

  /** `hush` ends what else plays. */
  constructor(hush: () => void) {
    this.#hush = hush;
  }

  stop(): void {
    this.#abort.abort();
    this.#node?.stop();
    this.#node = undefined;
    this.playing = undefined;
  }

  async play(name: string | number, address: string, rate: number, from: number, to: number): Promise<void> {
    this.stop();
    this.#hush();
    this.playing = name;
    this.problem = '';
    const { signal } = (this.#abort = new AbortController());
    try {
      const start = Math.max(0, Math.round(from * rate));
      const part = await partOf(address, { start, frames: Math.round(to * rate) - start, rate }, signal);
      if (signal.aborted) return;
      const context = (this.#context ??= new AudioContext());
      await context.resume();
      const node = (this.#node = context.createBufferSource());
      node.buffer = bufferOf(context, part);
      node.connect(context.destination);
      node.onended = () => !signal.aborted && this.stop();
      node.start();
    } catch (error) {
      if (signal.aborted) return;
      this.stop();
      this.problem = `Playback stopped: ${(error as Error).message}`;
    }
  }
}
