// How loud a bed is against the voice at each moment, as it will be mixed: the levels of its clips, their fades, and what lowers it.
import type { BedView } from './api';
import type { Reduction } from './reduction';

/** The level that stands at the foot of the picture, in LU against the voice. */
export const LOWEST_LU = -36;

type Laid = Pick<BedView, 'bed' | 'heard'>;

/** The level of all clips together at a moment, in LU against the voice, where nothing lowers them; nothing in silence. */
export function levelAt({ bed, heard }: Laid, at: number): number | undefined {
  let power = 0;
  for (const [index, clip] of (bed.clips ?? []).entries()) {
    const { start_s: start = 0, end_s: end = 0 } = heard[index] ?? {};
    if (at < start || at >= end) continue;
    power +=
      10 ** ((clip.level_lu ?? 0) / 10) * (rise(at - start, clip.fade_in_s) * rise(end - at, clip.fade_out_s)) ** 2;
  }
  return power > 0 ? 10 * Math.log10(power) : undefined;
}

/** A quarter of a sine over a fade. */
const rise = (inside: number, fade = 0) => (inside >= fade ? 1 : Math.sin((Math.PI / 2) * Math.max(0, inside / fade)));

/** Levels at so many moments from one time to another, lowered as told; what is silent or lower stands at the foot. */
export function levels(
  laid: Laid,
  lowered: Reduction | null | undefined,
  from: number,
  to: number,
  count: number,
): number[] {
  const step = (to - from) / count;
  return Array.from({ length: count }, (_, index) => {
    const at = from + (index + 0.5) * step;
    const level = levelAt(laid, at);
    if (level === undefined) return LOWEST_LU;
    return Math.max(LOWEST_LU, level + (lowered?.over(at - step / 2, at + step / 2).mean ?? 0));
  });
}
