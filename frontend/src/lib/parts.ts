// Short parts of sounds, to be played by themselves.
import { said } from './api';

export interface Part {
  samples: Float32Array;
  channels: number;
  rate: number;
}

/** A part of a sound, by its first frame and how many it has. */
export async function partOf(
  address: string,
  { start, frames, rate }: { start: number; frames: number; rate: number },
  signal: AbortSignal,
): Promise<Part> {
  const response = await fetch(`${address}${address.includes('?') ? '&' : '?'}start=${start}&frames=${frames}`, {
    signal,
  });
  if (!response.ok) throw new Error(said(await response.text()));
  const samples = new Float32Array(await response.arrayBuffer());
  return { samples, channels: Number(response.headers.get('x-channels') ?? 1), rate };
}

export function bufferOf(context: AudioContext, { samples, channels, rate }: Part): AudioBuffer {
  const count = samples.length / channels;
  const buffer = context.createBuffer(channels, Math.max(count, 1), rate);
  for (let channel = 0; channel < channels; channel++) {
    const line = buffer.getChannelData(channel);
    for (let frame = 0; frame < count; frame++) line[frame] = samples[frame * channels + channel] ?? 0;
  }
  return buffer;
}
