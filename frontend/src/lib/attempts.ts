// Attempts to conform a recording, in words.
import type { Conforming } from './api';

/** How a version is called: 0 is the recording as it came in. */
export const versionName = (number: number) => (number ? `version ${number}` : 'the recording');

/** By what an attempt was made. */
export function madeBy({
  kept,
  own,
  one_sound,
  preference,
}: Pick<Conforming, 'kept' | 'own' | 'one_sound' | 'preference'>): string {
  const by = own ? 'own treatment' : `${preference} plan`;
  const named = kept ? (kept.changed ? kept.name : `${kept.name}, version ${kept.version}`) : by;
  return one_sound ? `${named}, one sound` : named;
}
