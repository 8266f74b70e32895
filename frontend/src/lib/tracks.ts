// How peaks and loudness run through a recording, as the core measured them: what a meter would show at the playhead.
import { named } from './levels';

const NOTHING = -32_768;
const STEP_S = 0.1;

export interface Now {
  peak_dbfs: number | null;
  momentary_lufs: number | null;
  short_term_lufs: number | null;
}

export class Tracks {
  #fields: Int16Array[] = [];

  constructor(content: ArrayBuffer) {
    const view = new DataView(content);
    let at = 0;
    // Sample peak, true peak, momentary and short-term loudness: a count each, then differences in hundredths of a decibel.
    while (at + 4 <= content.byteLength) {
      const count = view.getInt32(at, true);
      const values = new Int16Array(count);
      let sum = 0;
      for (let index = 0; index < count; index++) {
        sum = ((sum + view.getInt16(at + 4 + 2 * index, true)) << 16) >> 16;
        values[index] = sum;
      }
      this.#fields.push(values);
      at += 4 + 2 * count;
    }
  }

  /** Peak of the tenth of a second at a position; loudness of the 0.4 s and the 3 s that end there. */
  at(position: number): Now {
    const step = Math.floor(position / STEP_S + 1e-6);
    return {
      peak_dbfs: this.#value(0, step),
      momentary_lufs: this.#value(2, step - 4),
      short_term_lufs: this.#value(3, step - 30),
    };
  }

  /** The loudest short-term loudness that a meter would show between two positions, in LUFS. */
  loudest(from: number, to: number): number | null {
    let highest: number | null = null;
    const first = Math.floor(from / STEP_S + 1e-6);
    const last = Math.max(first + 1, Math.ceil(to / STEP_S - 1e-6));
    for (let step = first; step < last; step++) {
      const value = this.#value(3, step - 30);
      if (value !== null && (highest === null || value > highest)) highest = value;
    }
    return highest;
  }

  #value(field: number, step: number): number | null {
    const found = this.#fields[field]?.[step];
    return found === undefined || found === NOTHING ? null : found / 100;
  }
}

/** Of a recording or a deliverable. */
export async function tracksOf(address: string, as?: string): Promise<Tracks | null> {
  const response = await fetch(named(`${address}/tracks`, as));
  return response.ok ? new Tracks(await response.arrayBuffer()) : null;
}
