// What can be listened to: pieces of sound by the recording's own time, of a file or of a draft that is rehearsed.
import { said } from './api';
import { named } from './levels';

/** A piece of sound: interleaved samples, and how many seconds after the moment that was asked for it begins. */
export interface Piece {
  samples: Float32Array<ArrayBuffer>;
  channels: number;
  rate: number;
  late: number;
}

export interface Track {
  /** Another name is another sound. */
  name: string;
  rate: number;
  /** How long the source is, in seconds. */
  duration: number;
  /** Integrated loudness, for matching. */
  loudness: number | null;
  /** How much later the same word comes in it than in the recording, in seconds. */
  offset?: number;
  /** Worked out while it is listened to: where that fails, the source goes on. */
  rehearsed?: boolean;
  piece: (at: number, seconds: number, signal: AbortSignal) => Promise<Piece | null>;
}

async function read(address: string, signal: AbortSignal): Promise<Response> {
  const response = await fetch(address, { signal });
  if (!response.ok) throw new Error(said(await response.text()));
  return response;
}

/** A file, or a recording that is known `as` something with its edits. `offset` is how much later the same word comes in it than in
 * the recording, in seconds. */
export function ofFile(
  address: string,
  {
    rate,
    frames,
    offset,
    loudness,
    duration,
    as,
  }: { rate: number; frames: number; offset: number; loudness: number | null; duration: number; as?: string },
): Track {
  return {
    name: named(address, as),
    rate,
    duration,
    loudness,
    offset,
    async piece(at, seconds, signal) {
      const wanted = Math.round((at + offset) * rate);
      const start = Math.max(0, wanted);
      const count = Math.round((at + seconds + offset) * rate) - start;
      if (count <= 0 || start >= frames) return null;
      const response = await read(named(`${address}?start=${start}&frames=${count}`, as), signal);
      const samples = new Float32Array(await response.arrayBuffer());
      return {
        samples,
        channels: Number(response.headers.get('x-channels') ?? 1),
        rate,
        late: (start - wanted) / rate,
      };
    },
  };
}

let turn = { of: '', at: 0 };
/** The turn of a draft, or of a bed, at one of its states: turns grow, also over a reload, and the server works on the newest alone. */
export function turnOf(recordingId: string, number: number | string): number {
  const of = `${recordingId} ${number}`;
  if (of !== turn.of) turn = { of, at: Math.max(turn.at + 1, Date.now()) };
  return turn.at;
}

/** A draft at one of its states, or what comes out of its step `upto`. */
export function ofDraft(
  recordingId: string,
  number: number,
  {
    rate,
    duration,
    loudness,
    upto,
    as,
  }: { rate: number; duration: number; loudness: number | null; upto?: string; as?: string },
): Track {
  const after = upto ? `&upto=${upto}` : '';
  const asked = `/api/recordings/${recordingId}/draft/sound?number=${number}&turn=${turnOf(recordingId, number)}${after}`;
  return rehearsed(`draft ${recordingId} ${as ?? ''} ${number}${after}`, asked, { rate, duration, loudness });
}

/** A recording with its bed, at one of the bed's states. */
export function ofBed(
  recordingId: string,
  state: string,
  { as, ...of }: { rate: number; duration: number; loudness: number | null; as?: string },
): Track {
  const asked = `/api/recordings/${recordingId}/bed/sound?turn=${turnOf(recordingId, state)}`;
  return rehearsed(`bed ${recordingId} ${as ?? ''} ${state}`, asked, of);
}

/** What is worked out while it is listened to. */
function rehearsed(
  name: string,
  address: string,
  { rate, duration, loudness }: { rate: number; duration: number; loudness: number | null },
): Track {
  return {
    name,
    rate,
    duration,
    loudness,
    rehearsed: true,
    async piece(at, seconds, signal) {
      const response = await read(`${address}&at_s=${at}&length_s=${seconds}`, signal);
      const samples = new Float32Array(await response.arrayBuffer());
      const header = (name: string) => Number(response.headers.get(name));
      return { samples, channels: header('x-channels'), rate: header('x-rate'), late: 0 };
    },
  };
}
