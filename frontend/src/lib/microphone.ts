// What is listened to, as the browser gives it: unchanged samples in pieces, and a sentence for whatever can go wrong with it.

import type { StandInSetting } from './api';

export interface Device {
  id: string;
  name: string;
}

/** What somebody does next, once they mended what went wrong: before anything came, and afterwards. */
export interface Next {
  opened: string;
  lost: string;
}
export const LISTENING: Next = { opened: 'start listening again', lost: 'start listening again' };

const WORDS: Record<string, (next: string) => string> = {
  NotAllowedError: (next) =>
    `The browser does not let this page use a microphone. Allow it beside the address, then ${next}.`,
  NotFoundError: (next) => `No microphone was found. Connect one, then ${next}.`,
  NotReadableError: (next) => `The microphone can’t be used: another program may hold it. Close that, then ${next}.`,
  OverconstrainedError: () => 'The chosen microphone is not there any more. Choose another one.',
};
const NOT_SECURE =
  'Browsers give a microphone only to addresses that begin with https://, and to those of this machine. Open Ispettore at such an address.';

/** What went wrong, in a sentence. */
export const told = (error: unknown, { opened }: Next): string =>
  WORDS[(error as { name?: string }).name ?? '']?.(opened) ??
  `The microphone could not be started. Reload the page, then ${opened}.`;

/** Those that are connected; without names until one was allowed. */
export async function devices(): Promise<Device[]> {
  const found = (await navigator.mediaDevices?.enumerateDevices()) ?? [];
  return found
    .filter(({ kind, deviceId }) => kind === 'audioinput' && deviceId && deviceId !== 'default')
    .map(({ deviceId, label }, at) => ({ id: deviceId, name: label || `Microphone ${at + 1}` }));
}

/** Samples of one channel, and the frame of the audio clock at which they began. */
export type OnPiece = (samples: ArrayBuffer, at: number) => void;
export type OnLost = (said: string) => void;

/** What is listened to: its sound, and the clock it runs by. */
export interface Input {
  readonly id: string;
  readonly name: string;
  readonly context: AudioContext;
  readonly source: AudioNode;
  stop(): void;
}

/** Have the sound of a source come in pieces. */
async function listen(
  context: AudioContext,
  source: AudioNode,
  onpiece: OnPiece,
  onlost: OnLost,
  next: Next,
): Promise<void> {
  await context.audioWorklet.addModule(new URL('./capture.js', import.meta.url));
  const node = new AudioWorkletNode(context, 'capture', {
    numberOfOutputs: 0,
    channelCount: 1,
    channelCountMode: 'explicit',
    processorOptions: { channels: 1 },
  });
  node.port.onmessage = ({ data }: MessageEvent<{ samples: ArrayBuffer; at: number }>) =>
    onpiece(data.samples, data.at);
  node.onprocessorerror = () => onlost(`The browser stopped passing sound on. To hear it once more, ${next.lost}.`);
  source.connect(node);
  await context.resume();
}

export class Microphone implements Input {
  #stream: MediaStream;

  private constructor(
    stream: MediaStream,
    readonly context: AudioContext,
    readonly source: AudioNode,
    readonly name: string,
  ) {
    this.#stream = stream;
  }

  get id(): string {
    return this.#stream.getAudioTracks()[0]?.getSettings().deviceId ?? '';
  }

  /** Ask for it, and hear it: `onpiece` gets samples of one channel, `onlost` why nothing comes any more. */
  static async open(id: string, onpiece: OnPiece, onlost: OnLost, next: Next): Promise<Microphone> {
    if (!navigator.mediaDevices) throw new Refused(NOT_SECURE);
    // What browsers do to voices in calls would be measured instead of the voice and its room.
    const plain = { echoCancellation: false, noiseSuppression: false, autoGainControl: false, channelCount: 1 };
    const stream = await navigator.mediaDevices.getUserMedia({
      audio: { ...plain, ...(id && { deviceId: { exact: id } }) },
    });
    const [track] = stream.getAudioTracks();
    const context = new AudioContext();
    const source = context.createMediaStreamSource(stream);
    try {
      await listen(context, source, onpiece, onlost, next);
    } catch (error) {
      stream.getTracks().forEach((one) => one.stop());
      void context.close();
      throw error;
    }
    const found = new Microphone(stream, context, source, track?.label || 'Microphone');
    const rate = track?.getSettings().sampleRate;
    if (track) track.onended = () => onlost(`“${found.name}” was disconnected. Connect it, then ${next.lost}.`);
    navigator.mediaDevices.ondevicechange = () => {
      const now = track?.getSettings().sampleRate;
      if (rate && now && now !== rate)
        onlost(`“${found.name}” now runs at ${now} Hz instead of ${rate} Hz. Set it back, or ${next.lost}.`);
    };
    return found;
  }

  stop(): void {
    if (navigator.mediaDevices) navigator.mediaDevices.ondevicechange = null;
    for (const track of this.#stream.getTracks()) {
      track.onended = null;
      track.stop();
    }
    void this.context.close();
  }
}

/** A stand-in for a microphone: a minute of somebody reading, over and over, at the pace at which it is read. */
export class Reader implements Input {
  readonly id = '';
  readonly name = 'Stand-in';

  private constructor(
    readonly context: AudioContext,
    readonly source: AudioNode,
  ) {}

  static async open(setting: StandInSetting, onpiece: OnPiece, onlost: OnLost, next: Next): Promise<Reader> {
    const given = Object.entries(setting).filter(([, value]) => value !== null);
    const query = new URLSearchParams(given.map(([name, value]) => [name, String(value)]));
    const context = new AudioContext({ sampleRate: 48_000 });
    try {
      const answer = await fetch(`/api/stand-in?${query.toString()}`);
      if (!answer.ok) throw new Refused('The stand-in could not be had from the server. Start again.');
      const source = context.createBufferSource();
      source.buffer = await context.decodeAudioData(await answer.arrayBuffer());
      source.loop = true;
      await listen(context, source, onpiece, onlost, next);
      source.start();
      return new Reader(context, source);
    } catch (error) {
      void context.close();
      throw error;
    }
  }

  stop(): void {
    void this.context.close();
  }
}

/** Why there is no microphone, said already. */
export class Refused extends Error {}
