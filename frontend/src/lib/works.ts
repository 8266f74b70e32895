// Background work, as far as a screen asks about it.
import type { Work } from './api';

/** The work itself, as long as it waits or runs. */
export function underWay(work: Work | null | undefined): Work | undefined {
  return work && (work.state === 'waiting' || work.state === 'running') ? work : undefined;
}
