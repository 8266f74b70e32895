// The gain that a treatment moved, as the core kept it: the lowest in each 50 ms, in dB.
const STEP_S = 0.05;

export class Reduction {
  readonly deepest: number;
  #values: Float32Array;

  constructor(content: ArrayBuffer) {
    const view = new DataView(content);
    let sum = 0;
    this.#values = Float32Array.from({ length: content.byteLength / 2 }, (_, index) => {
      sum = ((sum + view.getInt16(2 * index, true)) << 16) >> 16;
      return sum / 100;
    });
    this.deepest = this.#values.reduce((one, other) => Math.min(one, other), 0);
  }

  /** The lowest gain between two times of the source, and the mean of what was lowered, in dB. */
  over(from: number, to: number): { lowest: number; mean: number } {
    const first = Math.max(0, Math.floor(from / STEP_S + 1e-6));
    const last = Math.min(this.#values.length, Math.max(first + 1, Math.ceil(to / STEP_S - 1e-6)));
    let [lowest, sum] = [0, 0];
    for (let step = first; step < last; step++) {
      const value = Math.min(0, this.#values[step] ?? 0);
      lowest = Math.min(lowest, value);
      sum += value;
    }
    return { lowest, mean: last > first ? sum / (last - first) : 0 };
  }
}

/** The gain that was moved for a version. */
export const reductionOf = (conforming_id: string) => gainAt(`/api/conformings/${conforming_id}/reduction`);

/** Gain as it is kept at an address; nothing where there is none. */
export async function gainAt(address: string): Promise<Reduction | null> {
  const response = await fetch(address);
  return response.ok ? new Reduction(await response.arrayBuffer()) : null;
}
