// A microphone as the browser gives it: unchanged samples in pieces, and a sentence for whatever can go wrong with it.

export interface Device {
  id: string;
  name: string;
}

const WORDS: Record<string, string> = {
  NotAllowedError:
    'The browser does not let this page use a microphone. Allow it beside the address, then start listening again.',
  NotFoundError: 'No microphone was found. Connect one, then start listening again.',
  NotReadableError:
    'The microphone can’t be used: another program may hold it. Close that, then start listening again.',
  OverconstrainedError: 'The chosen microphone is not there any more. Choose another one.',
};
const NOT_SECURE =
  'Browsers give a microphone only to addresses that begin with https://, and to those of this machine. Open Ispettore at such an address.';

/** What went wrong, in a sentence. */
export const told = (error: unknown): string =>
  WORDS[(error as { name?: string }).name ?? ''] ??
  'The microphone could not be started. Reload the page, then start listening again.';

/** Those that are connected; without names until one was allowed. */
export async function devices(): Promise<Device[]> {
  const found = (await navigator.mediaDevices?.enumerateDevices()) ?? [];
  return found
    .filter(({ kind, deviceId }) => kind === 'audioinput' && deviceId && deviceId !== 'default')
    .map(({ deviceId, label }, at) => ({ id: deviceId, name: label || `Microphone ${at + 1}` }));
}

export class Microphone {
  #context: AudioContext;
  #stream: MediaStream;

  private constructor(
    stream: MediaStream,
    context: AudioContext,
    readonly name: string,
  ) {
    [this.#stream, this.#context] = [stream, context];
  }

  get id(): string {
    return this.#stream.getAudioTracks()[0]?.getSettings().deviceId ?? '';
  }

  get sampleRate(): number {
    return this.#context.sampleRate;
  }

  /** Ask for it, and hear it: `onpiece` gets samples of one channel, `onlost` why nothing comes any more. */
  static async open(
    id: string,
    onpiece: (samples: ArrayBuffer) => void,
    onlost: (said: string) => void,
  ): Promise<Microphone> {
    if (!navigator.mediaDevices) throw new Refused(NOT_SECURE);
    // What browsers do to voices in calls would be measured instead of the voice and its room.
    const plain = { echoCancellation: false, noiseSuppression: false, autoGainControl: false, channelCount: 1 };
    const stream = await navigator.mediaDevices.getUserMedia({
      audio: { ...plain, ...(id && { deviceId: { exact: id } }) },
    });
    const [track] = stream.getAudioTracks();
    const context = new AudioContext();
    try {
      await context.audioWorklet.addModule(new URL('./capture.js', import.meta.url));
      const node = new AudioWorkletNode(context, 'capture', {
        numberOfOutputs: 0,
        channelCount: 1,
        channelCountMode: 'explicit',
        processorOptions: { channels: 1 },
      });
      node.port.onmessage = ({ data }: MessageEvent<ArrayBuffer>) => onpiece(data);
      node.onprocessorerror = () => onlost('The browser stopped passing sound on. Start listening again.');
      context.createMediaStreamSource(stream).connect(node);
      await context.resume();
    } catch (error) {
      stream.getTracks().forEach((one) => one.stop());
      void context.close();
      throw error;
    }
    const found = new Microphone(stream, context, track?.label || 'Microphone');
    const rate = track?.getSettings().sampleRate;
    if (track)
      track.onended = () => onlost(`“${found.name}” was disconnected. Connect it, then start listening again.`);
    navigator.mediaDevices.ondevicechange = () => {
      const now = track?.getSettings().sampleRate;
      if (rate && now && now !== rate)
        onlost(`“${found.name}” now runs at ${now} Hz instead of ${rate} Hz. Start listening again.`);
    };
    return found;
  }

  stop(): void {
    if (navigator.mediaDevices) navigator.mediaDevices.ondevicechange = null;
    for (const track of this.#stream.getTracks()) {
      track.onended = null;
      track.stop();
    }
    void this.#context.close();
  }
}

/** Why there is no microphone, said already. */
export class Refused extends Error {}
