// What is heard on headphones while recording: nothing, the microphone as it is, or what the server makes of it.
import type { Input } from './microphone';

/** What is heard: nothing, as it comes in, or through a treatment by its identifier. */
export type Hearing = '' | 'plain' | (string & {});

export class Headphones {
  #input: Input;
  #player: AudioWorkletNode | undefined;
  #plain = false;
  #treated = false;
  #ondelay: (seconds: number | null) => void;

  /** `ondelay` gets how long after it is spoken something is heard; null while nothing is. */
  constructor(input: Input, ondelay: (seconds: number | null) => void) {
    [this.#input, this.#ondelay] = [input, ondelay];
  }

  async hear(what: Hearing): Promise<void> {
    const { context, source } = this.#input;
    if (this.#plain) source.disconnect(context.destination);
    this.#plain = false;
    this.#treated = what !== '' && what !== 'plain';
    this.#player?.port.postMessage({});
    this.#ondelay(null);
    if (what === 'plain') {
      source.connect(context.destination);
      this.#plain = true;
      this.#ondelay(this.#out());
    } else if (what && !this.#player) {
      await context.audioWorklet.addModule(new URL('./play.js', import.meta.url));
      const player = new AudioWorkletNode(context, 'play', { numberOfInputs: 0, outputChannelCount: [1] });
      player.port.onmessage = ({ data }: MessageEvent<number>) =>
        this.#treated && this.#ondelay(data / context.sampleRate + this.#out());
      player.connect(context.destination);
      this.#player = player;
    }
  }

  /** A piece that came back treated, spoken at this frame of the audio clock; some are still on their way once nothing is heard. */
  play(at: number, samples: ArrayBuffer): void {
    if (this.#treated) this.#player?.port.postMessage({ at, samples }, [samples]);
  }

  /** What was spoken before a pause is heard no more. */
  pause(): void {
    this.#player?.port.postMessage({});
  }

  /** How long the browser and the device take by themselves. */
  #out(): number {
    const { baseLatency, outputLatency } = this.#input.context;
    return (baseLatency || 0) + (outputLatency || 0);
  }
}
