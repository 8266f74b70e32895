// Attempts to conform a recording, in words.
import type { Conforming } from './api';

/** By what an attempt was made. */
export function madeBy({ kept, own, preference }: Pick<Conforming, 'kept' | 'own' | 'preference'>): string {
  if (kept) return kept.changed ? kept.name : `${kept.name}, version ${kept.version}`;
  return own ? 'own treatment' : `${preference} plan`;
}
